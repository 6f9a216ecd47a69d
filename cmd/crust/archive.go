package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"crust/internal/core/deliver"
	"crust/internal/store"
	"crust/internal/studio"
)

// isData fails where there is no data folder.
func isData(dir string) error {
	if _, err := os.Stat(filepath.Join(dir, "crust.db")); err != nil {
		return fmt.Errorf("%s is no data folder; name one with --data", dir)
	}
	return nil
}

// openFile opens a file to be read, and tells its size.
func openFile(name string) (*os.File, int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, fmt.Errorf("%s: there is no such file; check the path", name)
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, info.Size(), nil
}

// openData opens a data folder that is there, to look at it alone while another process works in it.
func openData(dir string) (*store.Store, error) {
	if err := isData(dir); err != nil {
		return nil, err
	}
	st, err := store.Open(dir)
	if err != nil {
		var used *store.InUse
		var newer *store.Newer
		if !errors.As(err, &used) && !errors.As(err, &newer) && !errors.Is(err, os.ErrPermission) {
			return nil, err
		}
		return store.Look(dir, err.Error())
	}
	return st, nil
}

// lookData opens a data folder to look at it, whoever works in it.
func lookData(dir string) (*store.Store, error) {
	if err := isData(dir); err != nil {
		return nil, err
	}
	return store.Look(dir, "it is being copied")
}

// packCommand writes an asset of a data folder, which may be open in a server, as an archive.
func packCommand() *cobra.Command {
	c := &cobra.Command{Use: "pack ASSET", Short: "Write an asset as an archive (docs/archive.md)", Args: exactly("an asset, by its name or number")}
	data := c.Flags().String("data", dataFolder(), "data folder")
	out := c.Flags().String("out", "", "archive to write, such as buoy.crust.zip")
	bare := c.Flags().Bool("without-maps", false, "leave the baked maps out; they can be baked again")
	c.RunE = func(_ *cobra.Command, args []string) error {
		if *out == "" {
			return wrong{fmt.Errorf("--out: name the archive to write")}
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
		s := studio.New(st)
		defer s.Close()
		return deliver.WriteAside(*out, func(w io.Writer) error { return s.Pack(w, id, !*bare) })
	}
	return c
}

// unpackCommand makes an asset from an archive.
func unpackCommand() *cobra.Command {
	c := &cobra.Command{Use: "unpack FILE.crust.zip", Short: "Make an asset from an archive", Args: exactly("an archive")}
	data := c.Flags().String("data", dataFolder(), "data folder")
	c.RunE = func(_ *cobra.Command, args []string) error {
		f, size, err := openFile(args[0])
		if err != nil {
			return err
		}
		defer f.Close()
		st, err := store.Open(*data)
		if err != nil {
			return err
		}
		defer st.Close()
		s := studio.New(st)
		defer s.Close()
		id, err := s.Unpack(f, size)
		if err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(args[0]), err)
		}
		fmt.Println(id)
		return nil
	}
	return c
}
