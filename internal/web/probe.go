package web

import (
	"errors"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"crust/internal/studio"
)

// at answers with what lies at a place of a set's square.
func (s *Server) at(c *echo.Context, a *studio.Asset) error {
	u, err := strconv.ParseFloat(c.QueryParam("u"), 64)
	v, err2 := strconv.ParseFloat(c.QueryParam("v"), 64)
	if err != nil || err2 != nil || !(u >= 0 && u < 1 && v >= 0 && v < 1) {
		return errors.New("a place is given by u and v from 0 to 1")
	}
	at, err := a.At(c.Request().Context(), c.QueryParam("set"), u, v)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, at)
}
