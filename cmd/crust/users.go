package main

import (
	"encoding/json"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"crust/internal/access"
)

// usersCommand lists those who may enter a server that others can reach, and changes them, also while it runs.
func usersCommand() *cobra.Command {
	c := &cobra.Command{Use: "users", Short: "List and change who may enter a server beyond this machine", Args: exactly()}
	data := c.PersistentFlags().String("data", dataFolder(), "data folder")
	asJSON := c.Flags().Bool("json", false, "print one JSON object")
	with := func(do func(u *access.Users) error) error {
		if err := isData(*data); err != nil {
			return err
		}
		u, err := access.Open(*data)
		if err != nil {
			return err
		}
		return do(u)
	}
	c.RunE = func(_ *cobra.Command, _ []string) error {
		return with(func(u *access.Users) error {
			list := u.List()
			if *asJSON {
				return json.NewEncoder(os.Stdout).Encode(map[string]any{"users": append([]access.User{}, list...)})
			}
			for _, v := range list {
				as := "works"
				if v.Guest {
					as = "looks"
				}
				fmt.Printf("%-16s %s  %s  %s\n", v.Name, as, v.Token, v.Root)
			}
			return nil
		})
	}
	var guest bool
	var root string
	add := &cobra.Command{Use: "add NAME", Short: "Let someone in, and print their token", Args: exactly("a name")}
	add.Flags().BoolVar(&guest, "guest", false, "may look, and change nothing")
	add.Flags().StringVar(&root, "root", "", "folder below which their deliveries lie (default: one of their name below the server's)")
	add.RunE = func(_ *cobra.Command, args []string) error {
		return with(func(u *access.Users) error {
			v, err := u.Add(access.User{Name: args[0], Guest: guest, Root: root})
			if err == nil {
				fmt.Println(v.Token)
			}
			return err
		})
	}
	renew := &cobra.Command{Use: "renew NAME", Short: "Give someone a new token; the old one holds no more", Args: exactly("a name")}
	renew.RunE = func(_ *cobra.Command, args []string) error {
		return with(func(u *access.Users) error {
			v, err := u.Renew(args[0])
			if err == nil {
				fmt.Println(v.Token)
			}
			return err
		})
	}
	remove := &cobra.Command{Use: "remove NAME", Short: "Let someone in no more", Args: exactly("a name")}
	remove.RunE = func(_ *cobra.Command, args []string) error {
		return with(func(u *access.Users) error { return u.Remove(args[0]) })
	}
	c.AddCommand(add, renew, remove)
	return c
}
