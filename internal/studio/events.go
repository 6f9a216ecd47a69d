package studio

import (
	"encoding/json"

	"crust/internal/core/bake"
	"crust/internal/core/layout"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Event is what pages are told; T names it.
type Event map[string]any

// tell sends an event to all pages. The caller holds mu.
func (a *Asset) tell(e Event) {
	for p := range a.pages {
		p.post(e)
	}
}

// docEvent describes the strata with their readings. The caller holds mu.
func (a *Asset) docEvent(author string) Event {
	undo, redo := a.history.labels(author)
	type layer struct {
		strata.Layer
		Reading  string  `json:"reading"`
		Coverage float64 `json:"coverage"`
	}
	layers := make([]layer, len(a.doc.Layers))
	for i := range a.doc.Layers {
		l := &a.doc.Layers[i]
		c, ok := a.coverage[l.ID]
		if !ok {
			c = -1
		}
		layers[i] = layer{*l, a.doc.Reading(l), c}
	}
	return Event{"t": "doc", "layers": layers, "undo": undo, "redo": redo, "version": a.version, "look": a.doc.Setup()}
}

// tellDoc sends each page the strata. The caller holds mu.
func (a *Asset) tellDoc() {
	events := map[string]Event{}
	for p := range a.pages {
		if events[p.author] == nil {
			events[p.author] = a.docEvent(p.author)
		}
		p.post(events[p.author])
	}
}

// Cell is one square of the bake board.
type Cell struct {
	Set     string          `json:"set"`
	Kind    string          `json:"kind"`
	State   string          `json:"state"` // missing, stale, running, ready or brought
	Size    int             `json:"size,omitempty"`
	Rays    int64           `json:"rays,omitempty"`
	Missed  int64           `json:"missed,omitempty"`
	Seconds float64         `json:"seconds,omitempty"`
	Made    int64           `json:"made,omitempty"`
	Low     float64         `json:"low,omitempty"` // metres
	High    float64         `json:"high,omitempty"`
	Legend  json.RawMessage `json:"legend,omitempty"`
	Box     json.RawMessage `json:"box,omitempty"` // of a position map, its two corners in metres
	Share   float64         `json:"share,omitempty"`
	Why     string          `json:"why,omitempty"`  // it is stale
	With    string          `json:"with,omitempty"` // the kind whose bake makes it too
}

// cells describes the bake board's squares of some kinds. The caller holds mu.
func (a *Asset) cells(kinds []bake.Kind) (out []Cell) {
	g := a.grounds()
	for i := range a.sets {
		for _, k := range kinds {
			c := Cell{Set: a.sets[i].Key, Kind: k.Name, State: "missing", With: k.With}
			if r, ok := a.rows[[2]string{c.Set, c.Kind}]; ok {
				c.State, c.Size, c.Rays, c.Missed, c.Seconds, c.Made = "ready", r.Size, r.Rays, r.Missed, r.Seconds, r.Made.UnixMilli()
				c.Low, c.High = r.Low, r.High
				if k.Name == bake.ID && r.Legend != "" {
					c.Legend = json.RawMessage(r.Legend)
				}
				if r.Box != "" {
					c.Box = json.RawMessage(r.Box)
				}
				if r.Brought {
					c.State = "brought"
				} else if now := g.stamp(c.Set, k.Name); r.Stamp != now {
					c.State, c.Why = "stale", why(r.Stamp, now)
				}
			}
			if a.job != nil && a.job.running(c.Set, c.Kind) {
				c.State, c.Share = "running", a.job.Share
			}
			out = append(out, c)
		}
	}
	return out
}

// SetEvent is a set as the page shows it: known by its key, called by its label.
type SetEvent struct {
	Name      string  `json:"name"` // key
	Label     string  `json:"label"`
	Tile      int     `json:"tile"`
	Triangles int     `json:"triangles"`
	Size      int     `json:"size"`    // resolution in px
	Density   float64 `json:"density"` // px/m at 1 px
}

// SetEvents describes sets.
func SetEvents(sets []uv.Set, size func(key string) int) []SetEvent {
	out := make([]SetEvent, len(sets))
	for i := range sets {
		s := &sets[i]
		out[i] = SetEvent{s.Key, s.Name, s.Tile, len(s.Tris), size(s.Key), s.Density(1)}
	}
	return out
}

// stateEvent describes everything but the strata. The caller holds mu.
func (a *Asset) stateEvent() Event {
	sets := SetEvents(a.sets, a.intake.sizes())
	var channels []string
	for _, c := range a.model.Channels {
		channels = append(channels, c.Name)
	}
	b := a.model.Bounds()
	size := b.Size()
	diag := float64(b.Diagonal())
	e := Event{"t": "state", "id": a.ID, "name": a.name, "split": a.split, "size": a.size, "working": a.working(), "model": a.modelName, "sets": sets,
		"triangles": len(a.model.Tris), "parts": a.model.Parts, "bounds": size.Array(), "floor": b.Min.Y, "low": b.Min.Array(), "high": a.highs, "hasUV": a.model.HasUV,
		"settings": a.settings, "cells": a.cells(bake.Kinds), "companions": a.cells(bake.Companions), "suggested": Event{"radius": diag * bake.DefaultRadius, "deep": diag * bake.DefaultDeep}, "fit": strata.Fit(diag), "notes": a.model.Notes,
		"intake": a.intake, "layoutSeconds": layout.Foretell(a.model), "channels": channels, "modelVersion": a.modelVersion}
	if q := a.model.Square; q != nil {
		e["repeats"] = Event{"u": q.U.Array(), "v": q.V.Array()}
	}
	e["flat"] = a.flat
	e["shipping"] = a.shipping
	e["keepsakes"] = keepsakeEvents(a.keepsakes)
	e["pictures"] = pictureEvents(a.pictures)
	if a.job != nil {
		e["job"] = a.job.event()
	}
	return e
}

// Deliveries lists the asset's deliveries.
func (a *Asset) Deliveries() ([]store.Delivery, error) { return a.studio.Store.Deliveries(a.ID) }
