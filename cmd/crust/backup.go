package main

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"github.com/spf13/cobra"

	"crust/internal/core/deliver"
	"crust/internal/store"
)

// backupCommand copies a data folder, which may be open in a server, into one file.
func backupCommand() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Copy a data folder into one file, also while it is open", Args: exactly()}
	data := c.Flags().String("data", dataFolder(), "data folder")
	out := c.Flags().String("out", "", "file to write, such as crust-backup.zip")
	c.RunE = func(_ *cobra.Command, _ []string) error {
		if *out == "" {
			return wrong{errors.New("--out: name the file to write")}
		}
		st, err := lookData(*data)
		if err != nil {
			return err
		}
		defer st.Close()
		return deliver.WriteAside(*out, func(w io.Writer) error { return st.Backup(w, filepath.Dir(*out)) })
	}
	return c
}

// restoreCommand makes a data folder of a backup.
func restoreCommand() *cobra.Command {
	c := &cobra.Command{Use: "restore FILE", Short: "Make a data folder of a backup", Args: exactly("a backup")}
	data := c.Flags().String("data", dataFolder(), "data folder to make; it must be missing or empty")
	c.RunE = func(_ *cobra.Command, args []string) error {
		f, size, err := openFile(args[0])
		if err != nil {
			return err
		}
		defer f.Close()
		if err := store.RestoreFolder(f, size, *data); err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(args[0]), err)
		}
		return nil
	}
	return c
}
