// Package hash scrambles numbers: cheaply, without a secret, and the same way on
// every machine. It spreads values over buckets and makes random-looking
// sequences; it protects nothing.
package hash

// Gamma is the step between the states of a SplitMix64 sequence.
const Gamma = 0x9e3779b97f4a7c15

// Finish is the finalizer of SplitMix64 (G. Steele, D. Lea and C. Flood, "Fast
// Splittable Pseudorandom Number Generators", OOPSLA 2014). It is a permutation
// of all 64-bit numbers that maps 0 to 0.
func Finish(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Mix is the number that SplitMix64 gives after state x.
func Mix(x uint64) uint64 { return Finish(x + Gamma) }

// Bytes is a number that belongs to a byte string, eight bytes at a time.
func Bytes(key []byte) uint64 {
	h := uint64(len(key))
	for len(key) >= 8 {
		h = Mix(h ^ (uint64(key[0]) | uint64(key[1])<<8 | uint64(key[2])<<16 | uint64(key[3])<<24 |
			uint64(key[4])<<32 | uint64(key[5])<<40 | uint64(key[6])<<48 | uint64(key[7])<<56))
		key = key[8:]
	}
	last := uint64(0)
	for _, c := range key {
		last = last<<8 | uint64(c)
	}
	return Mix(h ^ last)
}

// Text is a number that belongs to a text, from one of another text or any seed.
func Text(seed uint64, text string) uint64 {
	for i := range len(text) {
		seed = Mix(seed ^ uint64(text[i]))
	}
	return seed
}

// Fraction is a number between 0 and 1, neither included, made of 64 bits.
func Fraction(x uint64) float64 { return (float64(x>>11) + 0.5) / (1 << 53) }
