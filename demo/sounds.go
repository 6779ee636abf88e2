package demo

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
)

// The recordings of the demo are made here: sound files of one channel, 22,050 samples a second, 16 bits each.
const sampleRate = 22_050

// sounds are the recordings by their names, each with what it sounds like at a time in seconds, and how long it is.
var sounds = map[string]struct {
	seconds float64
	at      func(r *rand.Rand) func(t float64) float64
}{
	"fog-bell.wav":          {24, func(*rand.Rand) func(float64) float64 { return fogBell }},
	"tide-over-shingle.wav": {30, tide},
	"lamp-clockwork.wav":    {20, clockwork},
}

// fogBell is a bell that is struck every eight seconds: partials that are out of tune as those of a bell are, the high
// ones gone first.
func fogBell(t float64) float64 {
	since := math.Mod(t, 8)
	sum := 0.0
	for i, partial := range []struct{ ratio, loud float64 }{{0.5, 0.6}, {1, 1}, {1.19, 0.7}, {1.56, 0.5}, {2, 0.6}, {2.66, 0.35},
		{3.76, 0.2}} {
		sum += partial.loud * math.Sin(2*math.Pi*220*partial.ratio*since) * math.Exp(-since*(0.35+0.35*float64(i)))
	}
	return 0.22 * sum * math.Min(1, since*400)
}

// tide is noise without its high part that swells and falls, as waves of different length come in.
func tide(r *rand.Rand) func(float64) float64 {
	low, stones := 0.0, 0.0
	return func(t float64) float64 {
		noise := r.Float64()*2 - 1
		low += 0.06 * (noise - low)
		swell := 0.5 + 0.5*math.Sin(2*math.Pi*t/7.3)*math.Sin(2*math.Pi*t/4.1+1)
		if stones *= 0.995; r.Float64() < 0.0015*(1-swell) {
			stones = r.Float64()
		}
		return 1.6*low*(0.25+0.75*swell) + 0.12*stones*noise
	}
}

// clockwork is a tick and a tock a second, the fan that turns with it, and a small gear that is worn.
func clockwork(r *rand.Rand) func(float64) float64 {
	return func(t float64) float64 {
		half := math.Mod(t, 0.5)
		pitch := 1900.0
		if math.Mod(t, 1) >= 0.5 {
			pitch = 1450
		}
		tick := math.Sin(2*math.Pi*pitch*half) * math.Exp(-half*90)
		fan := 0.05 * math.Sin(2*math.Pi*96*t) * (0.6 + 0.4*math.Sin(2*math.Pi*t*3.2))
		gear := math.Mod(t, 0.083)
		return 0.5*tick + fan + 0.08*(r.Float64()*2-1)*math.Exp(-gear*140)
	}
}

// wav returns a recording as a file, the same each time.
func wav(name string) []byte {
	sound := sounds[name]
	n := int(sound.seconds * sampleRate)
	file := make([]byte, 0, 44+2*n)
	u32 := func(v int) { file = binary.LittleEndian.AppendUint32(file, uint32(v)) }
	u16 := func(v int) { file = binary.LittleEndian.AppendUint16(file, uint16(v)) }
	file = append(file, "RIFF"...)
	u32(36 + 2*n)
	file = append(file, "WAVEfmt "...)
	u32(16)
	u16(1) // as it is
	u16(1) // one channel
	u32(sampleRate)
	u32(2 * sampleRate)
	u16(2)
	u16(16)
	file = append(file, "data"...)
	u32(2 * n)
	at := sound.at(rand.New(rand.NewPCG(1862, 704)))
	for i := range n {
		v := at(float64(i) / sampleRate)
		u16(int(int16(math.Max(-1, math.Min(1, v)) * 32_000)))
	}
	return file
}
