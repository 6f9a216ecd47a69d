package studio

import (
	"context"
	"errors"
	"time"

	"crust/internal/core/compose"
)

// patience is how long a question to the painter waits for its turn.
const patience = 20 * time.Second

// ask has the painter answer a question between its rounds.
func (a *Asset) ask(ctx context.Context, q func(e *easel) error) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	done := make(chan error, 1)
	select {
	case a.asked <- func(e *easel) { done <- a.guard("answer", func() error { return q(e) }) }:
	case <-ctx.Done():
		return errors.New("the strata are being evaluated still; ask again in a moment")
	case <-a.ctx.Done():
		return a.ctx.Err()
	}
	return <-done
}

// At says what lies at a place of a set's square, 0–1 from the top left, at the working size; nil where nothing is covered.
func (a *Asset) At(ctx context.Context, set string, u, v float64) (at *compose.At, err error) {
	err = a.ask(ctx, func(e *easel) error {
		s := a.snap(e)
		defer a.giveBack(s)
		for i := range s.sets {
			if s.sets[i].Key != set {
				continue
			}
			size := s.size(set)
			c, err := a.sheet(e, s, &s.sets[i], size)
			if err != nil {
				return err
			}
			prog, err := s.program(c.Canvas)
			if err != nil {
				return err
			}
			at, err = c.At(s.ctx, prog, int(u*float64(size)), int(v*float64(size)))
			return err
		}
		return errors.New("there is no such set")
	})
	if errors.Is(err, context.Canceled) {
		err = errors.New("the strata have changed meanwhile; ask again")
	}
	return at, err
}
