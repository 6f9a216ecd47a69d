package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"crust/internal/demo"
	"crust/internal/store"
	"crust/internal/studio"
	"crust/internal/web"
)

// serveCommand is serve, or demo: the same with the demo assets made first when it is missing.
func serveCommand(withDemo bool) *cobra.Command {
	c := &cobra.Command{Use: "serve", Short: "Start the server with your own data", Args: exactly()}
	dir := dataFolder()
	if withDemo {
		c.Use, c.Short = "demo", "Start the server with the demo assets"
		dir += "-demo"
	}
	addr := c.Flags().String("addr", "127.0.0.1:7420", "address to listen on")
	data := c.Flags().String("data", dir, "data folder")
	root := c.Flags().String("deliver-root", deliveryFolder(), "folder below which deliveries may be written")
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		st, err := store.Open(*data)
		if err != nil {
			return err
		}
		defer st.Close()
		s := studio.New(st)
		if s.Root, err = filepath.Abs(*root); err != nil {
			return err
		}
		s.FinishDeliveries()
		st.Sweep()
		defer s.Close()
		l, err := net.Listen("tcp", *addr)
		if err != nil {
			return fmt.Errorf("cannot listen on %s: %w; give another with --addr", *addr, err)
		}
		srv, err := web.New(s, l.Addr().String())
		if err != nil {
			return err
		}
		srv.Demo = func() (uint, error) { return demo.Create(s) }
		if withDemo {
			if err := firstDemo(s); err != nil {
				return err
			}
		}
		fmt.Printf("Crust is at http://%s\n", l.Addr())
		return srv.Serve(cmd.Context(), l)
	}
	return c
}

// firstDemo makes the demo assets in an empty data folder and bakes them, so that they open painted.
func firstDemo(s *studio.Studio) error {
	assets, err := s.Store.Assets()
	if err != nil || len(assets) > 0 {
		return err
	}
	fmt.Fprintln(os.Stderr, "making the demo assets and baking their maps, once")
	if _, err := demo.Create(s); err != nil {
		return err
	}
	if assets, err = s.Store.Assets(); err != nil {
		return err
	}
	for _, row := range assets {
		a, err := s.Open(row.ID)
		if err != nil {
			return err
		}
		b := newBar("bake " + row.Name)
		a.WaitJob(b.at)
		b.at(1)
		if len(a.Missing()) > 0 {
			return fmt.Errorf("the maps of %s could not be baked", row.Name)
		}
	}
	return nil
}
