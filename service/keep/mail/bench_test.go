package mail

import (
	"runtime"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/words"
	"ostiarius/store"
)

// Handing messages to a server on this machine, each noted before the next, beside handing the same to it with nothing but
// the package for mail.
func BenchmarkDeliver(b *testing.B) {
	s := &server{forgets: true}
	address := s.start(b, nil, false)
	o := open(b, server1(b, "smtp://"+address, ""))
	b.Run("with records", func(b *testing.B) {
		b.ReportAllocs()
		for range b.N {
			m := message.New(message.Recover, "ines@marram.example", "ines", words.English, o.clock.now()).With("/door/recover?link=TOKEN",
				o.clock.now().Add(time.Hour))
			if err := o.store.Post(b.Context(), m, store.Activity{At: m.MadeAt, Kind: "link made"}); err != nil {
				b.Fatal(err)
			}
		}
		b.ResetTimer()
		for {
			n, err := o.round(b.Context())
			if err != nil {
				b.Fatal(err)
			}
			if n == 0 {
				break
			}
		}
		b.StopTimer()
		var memory runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&memory)
		b.ReportMetric(float64(memory.Sys)/(1<<20), "MB-of-process")
	})
	b.Run("alone", func(b *testing.B) {
		connection, err := o.o.Server.dial(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		defer connection.Close()
		for range b.N {
			m := message.New(message.Recover, "ines@marram.example", "ines", words.English, o.clock.now()).With("/door/recover?link=TOKEN",
				o.clock.now().Add(time.Hour))
			mime, err := o.o.Server.mime(m, o.o.Sender().Write(m))
			if err == nil {
				err = connection.Send(mime)
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	})
}
