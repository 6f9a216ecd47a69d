package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"crust/internal/access"
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
	addr := c.Flags().String("addr", "127.0.0.1:7420", "address to listen on; one that others can reach wants a certificate and tokens (docs/sharing.md)")
	data := c.Flags().String("data", dir, "data folder")
	root := c.Flags().String("deliver-root", deliveryFolder(), "folder below which deliveries may be written")
	cert := c.Flags().String("tls-cert", "", "certificate to answer with, a PEM file with its chain")
	key := c.Flags().String("tls-key", "", "the certificate's key, a PEM file")
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		certificate, err := certificateOf(*addr, *cert, *key)
		if err != nil {
			return err
		}
		st, err := openToServe(*data)
		if err != nil {
			return err
		}
		defer st.Close()
		s := studio.New(st)
		if s.Root, err = filepath.Abs(*root); err != nil {
			return err
		}
		if st.MayChange() == nil {
			s.FinishDeliveries()
			st.Sweep()
		}
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
		at := "http://" + l.Addr().String()
		if srv.TLS = certificate; certificate != nil {
			at = "https://" + l.Addr().String()
		}
		if srv.Users, err = usersOf(*addr, *data); err != nil {
			return err
		}
		if withDemo && st.MayChange() == nil {
			if err := firstDemo(s); err != nil {
				return err
			}
		}
		st.ServedAt(at)
		fmt.Printf("Crust is at %s\n", at)
		if srv.Users != nil {
			for _, u := range srv.Users.List() {
				fmt.Printf("%s enters with the token %s\n", u.Name, u.Token)
			}
		}
		return srv.Serve(cmd.Context(), l)
	}
	return c
}

// openToServe opens a data folder to work in it, or where that cannot be, to look at it.
func openToServe(dir string) (*store.Store, error) {
	st, err := store.Open(dir)
	if err == nil {
		if st.Full() {
			fmt.Fprintf(os.Stderr, "crust: the disk of the data folder %s is full; what is there can be looked at, and changes are refused until there is room\n", dir)
		}
		return st, nil
	}
	var used *store.InUse
	if errors.As(err, &used) {
		return nil, err
	}
	look, e := store.Look(dir, err.Error())
	if e != nil {
		return nil, err
	}
	fmt.Fprintf(os.Stderr, "crust: %v; what is there can be looked at, and nothing can be changed\n", err)
	return look, nil
}

// loopback tells whether an address can be reached from this machine alone.
func loopback(addr string) bool {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// certificateOf reads the certificate to answer with. An address that others can reach does not go without.
func certificateOf(addr, cert, key string) (*tls.Certificate, error) {
	if cert == "" && key == "" {
		if loopback(addr) {
			return nil, nil
		}
		return nil, wrong{fmt.Errorf("others can reach %s, and what they send could be read on the way: give a certificate with --tls-cert and --tls-key, or listen on 127.0.0.1 (docs/sharing.md)", addr)}
	}
	c, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, wrong{fmt.Errorf("--tls-cert and --tls-key: %w; give two PEM files that belong together", err)}
	}
	return &c, nil
}

// usersOf are those who may enter at an address; nil for one that this machine alone can reach.
func usersOf(addr, dir string) (*access.Users, error) {
	if loopback(addr) {
		return nil, nil
	}
	u, err := access.Open(dir)
	if err != nil || len(u.List()) > 0 {
		return u, err
	}
	_, err = u.Add(access.User{Name: access.Owner})
	return u, err
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
