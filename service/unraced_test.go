//go:build !race

package service

// slowness is by how much less there is to do under the race detector.
const slowness = 1
