package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"github.com/spf13/cobra"

	"crust/internal/core/brush"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// strataCommand prints the document of an asset of a data folder, which may be open in a server.
func strataCommand() *cobra.Command {
	var reference bool
	c := &cobra.Command{Use: "strata ASSET", Short: "Print an asset's document (docs/strata.md)", Args: cobra.MaximumNArgs(1)}
	data := c.Flags().String("data", dataFolder(), "data folder")
	c.Flags().BoolVar(&reference, "reference", false, "print docs/strata.md instead")
	c.RunE = func(_ *cobra.Command, args []string) error {
		if reference {
			fmt.Print(strata.Reference())
			return nil
		}
		if len(args) != 1 {
			return wrong{errors.New("give an asset, by its name or number")}
		}
		st, err := openData(*data)
		if err != nil {
			return err
		}
		defer st.Close()
		id, err := findAsset(st, args[0])
		if err != nil {
			return err
		}
		d, err := st.Document(id)
		if err != nil {
			return err
		}
		full, err := d.InFull(func(number int32) (*brush.Stroke, error) {
			s, err := st.Stroke(number)
			if err != nil {
				return nil, err
			}
			k, err := brush.Decode(s.Data)
			if err != nil {
				return nil, err
			}
			return k, k.Fetch(func(hash string) (*brush.Alpha, error) {
				a, err := st.Alpha(hash)
				if err != nil {
					return nil, err
				}
				return a.Picture(), nil
			})
		})
		if err != nil {
			return err
		}
		out, err := json.MarshalIndent(full, "", "  ")
		if err != nil {
			return err
		}
		fmt.Println(string(out))
		return nil
	}
	return c
}

// findAsset finds an asset by its number or its name.
func findAsset(st *store.Store, word string) (uint, error) {
	assets, err := st.Assets()
	if err != nil {
		return 0, err
	}
	var found []uint
	for _, a := range assets {
		if word == strconv.Itoa(int(a.ID)) {
			return a.ID, nil
		}
		if a.Name == word {
			found = append(found, a.ID)
		}
	}
	switch len(found) {
	case 0:
		return 0, fmt.Errorf("there is no asset “%s” in %s", word, st.Dir)
	case 1:
		return found[0], nil
	}
	return 0, fmt.Errorf("%d assets are called “%s”; name one by its number: %v", len(found), word, found)
}

// deliveryFolder is where a user's deliveries go unless another folder is named.
func deliveryFolder() string {
	if home, err := os.UserHomeDir(); err == nil {
		return filepath.Join(home, "crust-deliveries")
	}
	return "crust-deliveries"
}

// dataFolder is where a user's assets are unless another folder is named.
func dataFolder() string {
	if home, err := os.UserHomeDir(); err == nil {
		return filepath.Join(home, "crust-data")
	}
	return "crust-data"
}
