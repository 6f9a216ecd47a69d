package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crust/internal/core/deliver"
	"crust/internal/core/inspect"
	"crust/internal/core/layout"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/uv"
)

// laidOut is the report of a layout.
type laidOut struct {
	File    string    `json:"file"`
	Islands int       `json:"islands"`
	Used    []float64 `json:"used"` // share of each tile
	Stretch struct {
		Median float64 `json:"median"`
		Worst  float64 `json:"worst"` // 95th percentile by area
	} `json:"stretch"`
	Margin  float64           `json:"margin"` // px that were kept
	Asked   float64           `json:"asked"`  // px that were asked for
	Size    int               `json:"size"`   // px
	Seconds float64           `json:"seconds"`
	Checks  []inspect.Finding `json:"checks"`
}

// parseMargin reads “8px” or a share of the tile.
func parseMargin(text string, o *layout.Options) error {
	number, px := strings.CutSuffix(strings.TrimSpace(text), "px")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil {
		return fmt.Errorf("--margin %s: give texels like 8px, or a share of the tile like 0.02", text)
	}
	o.Pixels, o.Margin = 0, 0
	if px {
		o.Pixels = v
	} else {
		o.Margin = v
	}
	return nil
}

func layoutCommand() *cobra.Command {
	var how intakeFlags
	var o layout.Options
	var margin, out, split string
	var asJSON bool
	c := &cobra.Command{Use: "layout MODEL", Short: "Make a new UV channel and write the model with it", Args: exactly("a model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := parseMargin(margin, &o); err != nil {
				return wrong{err}
			}
			if err := o.Check(); err != nil {
				return wrong{err}
			}
			if !strings.EqualFold(filepath.Ext(out), ".glb") {
				return wrong{fmt.Errorf("--out %s: name a .glb file", out)}
			}
			if err := checkSplit(split); err != nil {
				return err
			}
			m, err := how.take(args[0])
			if err != nil {
				return err
			}
			sets, err := uv.Sets(m, split)
			if err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "lay out: about %.0f s on two cores\n", layout.Foretell(m))
			began := time.Now()
			var l *layout.Layout
			err = withBar("lay out", func(share func(float64)) (err error) {
				l, err = layout.Make(cmd.Context(), m, sets, o, share)
				return err
			})
			if err != nil {
				return err
			}
			if r := &l.Report; len(r.Misses) > 0 {
				return fmt.Errorf("%s: the layout came out badly and was not written: %s; mend the model, take a smaller margin, or more tiles", filepath.Base(args[0]), strings.Join(r.Misses, "; "))
			}
			seconds := time.Since(began).Seconds()
			if len(m.Channels) == 0 {
				m.Channels = []mesh.Channel{{Name: "UV 1", UVs: m.UVs}}
			}
			if err := m.Choose(m.AddChannel("Laid out", l.Corners)); err != nil {
				return err
			}
			if err := writeLaidOut(out, m); err != nil {
				return err
			}
			if sets, err = uv.Sets(m, map[string]string{layout.OneTile: uv.Single, layout.Tiles: uv.PerTile, layout.PerSet: split}[o.Into]); err != nil {
				return err
			}
			size := o.Size
			if size == 0 {
				size = layout.DefaultSize
			}
			look, err := inspect.Model(cmd.Context(), m, sets, inspect.Options{Padding: min(inspect.DefaultPadding, l.Report.Pixels), Size: func(string) int { return size }}, nil)
			if err != nil {
				return err
			}
			r := laidOut{File: out, Islands: l.Report.Islands, Used: l.Report.Used, Margin: l.Report.Pixels, Asked: l.Report.Asked, Size: size, Seconds: seconds, Checks: look.Findings}
			r.Stretch.Median, r.Stretch.Worst = l.Report.Stretch, l.Report.Worst
			if asJSON {
				return printJSON(r)
			}
			fmt.Printf("%s: %d islands, %s of the tile used, margin %.3g px of %d, stretch %.2f, %.1f s\n", r.File, r.Islands, percents(r.Used), r.Margin, size, r.Stretch.Median, seconds)
			for _, k := range r.Checks {
				fmt.Printf("  %s: %s: %s. %s\n", k.Severity, k.Title, k.Detail, k.Remedy)
			}
			return nil
		}}
	c.Flags().StringVar(&o.Into, "into", layout.OneTile, "one, sets or tiles")
	c.Flags().IntVar(&o.Tiles, "tiles", 4, "how many tiles, with --into tiles")
	c.Flags().StringVar(&margin, "margin", "8px", "between islands: texels like 8px, or a share of the tile like 0.02; the largest that fits is taken")
	c.Flags().IntVar(&o.Size, "size", layout.DefaultSize, "resolution of a tile in px")
	c.Flags().StringVar(&split, "sets", uv.PerMaterial, "islands stay within these sets: single, material or udim")
	c.Flags().StringVar(&out, "out", "laid-out.glb", "GLB to write")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	how.add(c)
	return c
}

func percents(used []float64) string {
	var out []string
	for _, u := range used {
		out = append(out, fmt.Sprintf("%.0f %%", 100*u))
	}
	return strings.Join(out, ", ")
}

// writeLaidOut writes a model with its chosen channel as the first one.
func writeLaidOut(file string, m *mesh.Model) error {
	o := mesh.GLBOptions{Generator: "Crust", MaterialOf: func(t int) int { return int(m.Material[t]) }}
	for _, k := range m.Materials {
		c := k.Colour
		for i := range c {
			c[i] = pixel.FromSRGB(c[i])
		}
		o.Materials = append(o.Materials, mesh.GLBMaterial{Name: k.Name, Colour: c})
	}
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, o); err != nil {
		return err
	}
	return deliver.WriteWhole(file, b.Bytes())
}
