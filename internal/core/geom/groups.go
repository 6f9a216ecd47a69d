package geom

import "sort"

// Groups joins numbered things into groups (disjoint sets with path halving; Tarjan & van Leeuwen,
// Worst-Case Analysis of Set Union Algorithms, 1984). The lowest number of a group stands for it.
type Groups []int32

// NewGroups makes n groups of one.
func NewGroups(n int) Groups {
	g := make(Groups, n)
	for i := range g {
		g[i] = int32(i)
	}
	return g
}

// Of returns the lowest number in the group of i.
func (g Groups) Of(i int32) int32 {
	for g[i] != i {
		g[i] = g[g[i]]
		i = g[i]
	}
	return i
}

// Join makes the groups of i and j one.
func (g Groups) Join(i, j int32) {
	i, j = g.Of(i), g.Of(j)
	g[max(i, j)] = min(i, j)
}

// Quantile returns the value up to which a share q, 0–1, of the weight lies; 0 without values.
func Quantile(values, weights []float64, q float64) float64 {
	order := make([]int, len(values))
	all := 0.0
	for i := range values {
		order[i] = i
		all += weights[i]
	}
	sort.Slice(order, func(i, j int) bool { return values[order[i]] < values[order[j]] })
	sum := 0.0
	for _, i := range order {
		if sum += weights[i]; sum >= all*q {
			return values[i]
		}
	}
	return 0
}
