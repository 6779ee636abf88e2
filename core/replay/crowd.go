package replay

import (
	"math"
	"math/bits"
	"slices"
)

// A crowd counts people by hashes of what they are known by: some exactly, many by the share of bits that they leave unset (linear
// counting), which is within a few percent up to some twenty thousand. So it takes little room, however many come.
type crowd struct {
	few  []uint64
	many *[crowdBits / 64]uint64
}

const (
	exactly   = 96
	crowdBits = 8192
)

func (c *crowd) add(hash uint64) {
	if c.many == nil {
		if slices.Contains(c.few, hash) {
			return
		}
		if len(c.few) < exactly {
			c.few = append(c.few, hash)
			return
		}
		c.many = new([crowdBits / 64]uint64)
		for _, h := range c.few {
			c.set(h)
		}
		c.few = nil
	}
	c.set(hash)
}

func (c *crowd) set(hash uint64) { c.many[hash%crowdBits/64] |= 1 << (hash % 64) }

func (c *crowd) merge(other *crowd) {
	for _, h := range other.few {
		c.add(h)
	}
	if other.many == nil {
		return
	}
	if c.many == nil {
		c.many = new([crowdBits / 64]uint64)
		for _, h := range c.few {
			c.set(h)
		}
		c.few = nil
	}
	for i, word := range other.many {
		c.many[i] |= word
	}
}

// count returns how many there are: exactly if they are few.
func (c *crowd) count() int {
	if c.many == nil {
		return len(c.few)
	}
	unset := 0
	for _, word := range c.many {
		unset += 64 - bits.OnesCount64(word)
	}
	return int(math.Round(-crowdBits * math.Log(float64(max(unset, 1))/crowdBits)))
}
