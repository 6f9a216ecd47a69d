package main

import (
	"context"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
)

// A server that is killed while strokes are painted opens again with every stroke that it had answered, and at most the one that
// was being made is missing.
func TestAKillLosesAtMostTheStrokeInHand(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	low := ball(t, dir, "ball.glb", 24, 12)
	s := serve(t, data)
	s.post("/api/assets", nil, low)
	answered, layer, clause := 0, "", ""
	for round := range 3 {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		ws, _, err := websocket.Dial(ctx, strings.Replace(s.url, "http", "ws", 1)+"/api/assets/1/socket", nil)
		if err != nil {
			t.Fatal(err)
		}
		ws.SetReadLimit(64 << 20)
		n := 0
		var doc struct {
			Layers []struct {
				ID    string
				Where []struct{ ID string }
			}
		}
		send := func(m map[string]any) {
			t.Helper()
			text, err := json.Marshal(m)
			if err == nil {
				err = ws.Write(ctx, websocket.MessageText, text)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		// read reads a message; documents are kept.
		read := func() (a struct {
			T, Layer, Error string
			N               int
		}) {
			t.Helper()
			kind, text, err := ws.Read(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if kind != websocket.MessageText || json.Unmarshal(text, &a) != nil {
				send(map[string]any{"t": "ack"})
			}
			if a.T == "doc" {
				if err := json.Unmarshal(text, &doc); err != nil {
					t.Fatal(err)
				}
			}
			return a
		}
		// ask sends a message and waits for its answer.
		ask := func(m map[string]any) (layer string) {
			t.Helper()
			n++
			m["n"] = n
			for send(m); ; {
				if a := read(); a.T == "answer" && a.N == n {
					if a.Error != "" {
						t.Fatal(a.Error)
					}
					return a.Layer
				}
			}
		}
		if round == 0 {
			layer = ask(map[string]any{"t": "edit", "edit": map[string]any{"do": "add", "kind": "brush"}})
			for clause == "" {
				for _, l := range doc.Layers {
					if l.ID == layer {
						clause = l.Where[0].ID
					}
				}
				if clause == "" {
					read()
				}
			}
		}
		ink := func(end bool, more map[string]any) map[string]any {
			m := map[string]any{"layer": layer, "clause": clause, "points": [][7]float64{{0.5, 0, 0, 1, 0, 0, 1}, {0.4, 0.3, 0, 0.8, 0.6, 0, 1}}, "end": end}
			for k, v := range more {
				m[k] = v
			}
			return map[string]any{"t": "ink", "ink": m}
		}
		begin := map[string]any{"begin": map[string]any{"brush": map[string]any{"name": "Round", "tip": "round", "hardness": 1, "roundness": 1, "spacing": 0.15, "flow": 1, "opacity": 1, "count": 1, "grain": 0.2}, "size": 0.1}}
		for range 5 + round {
			ask(ink(true, begin))
			answered++
		}
		send(ink(false, begin)) // one that is not ended
		s.kill()
		ws.CloseNow()
		cancel()
		s = serve(t, data)
		var list []struct{ N int }
		if err := json.Unmarshal(s.get("/api/assets/1/strokes?layer="+layer+"&clause="+clause), &list); err != nil {
			t.Fatal(err)
		}
		if len(list) < answered || len(list) > answered+1 {
			t.Fatalf("%d strokes after %d were answered", len(list), answered)
		}
		answered = len(list)
	}
}
