//go:build !goexperiment.simd || !amd64 || plain

package accel

import "crust/internal/core/geom"

// HasSIMD tells whether the vector kernels are in use.
const HasSIMD = false

func testNode(n *node, o geom.Vec3, far float32, s *Stream, rays uint64) {
	nodePlain(n, o, far, s, rays)
}

func testBlock(k *block, o geom.Vec3, far float32, s *Stream, rays uint64) uint64 {
	return blockPlain(k, o, far, s, rays)
}

func nearNode(n *node, o geom.Vec3, far float32, s *Stream) uint32 {
	return nearNodePlain(n, o, far, s)
}

func nearBlock(k *block, o geom.Vec3, far float32, s *Stream) uint32 {
	return nearBlockPlain(k, o, far, s)
}

func spreadRays(s *rays, n int) { spreadPlain(s, n) }

func gather(hits *[StreamSize]uint8, mask *[width]uint64) uint64 { return gatherPlain(hits, mask) }

func testNodeMany(n *node, o geom.Vec3, far float32, s *Stream, rays uint64, mask *[width]uint64) uint64 {
	return nodeManyPlain(n, o, far, s, rays, mask)
}

func measureNode(n *node, o geom.Vec3, s *Stream, rays uint64) { measureNodePlain(n, o, s, rays) }

func measureBlock(k *block, o geom.Vec3, s *Stream, rays uint64) { measureBlockPlain(k, o, s, rays) }
