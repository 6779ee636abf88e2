package policy_test

import (
	"fmt"
	"net/http"
	"net/url"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

// Policies of many doors, and the same patterns for http.ServeMux, which is the baseline in the same run. Both begin with the target as
// the client wrote it, and make one address of its spellings. ServeMux then finds one handler; Decide also compares the doors that cover
// the address, and looks at the visitor.

type shape struct {
	name    string
	door    func(i int) string // as the policy writes it
	pattern func(i int) string // as ServeMux writes it
	path    func(i int) string // an address that it covers
}

var shapes = []shape{
	{
		"literal",
		func(i int) string { return fmt.Sprintf("/area%d/room%d/**", i%100, i) },
		func(i int) string { return fmt.Sprintf("/area%d/room%d/", i%100, i) },
		func(i int) string { return fmt.Sprintf("/area%d/room%d/2026/page.html", i%100, i) },
	},
	{
		"wildcard",
		func(i int) string { return fmt.Sprintf("/area%d/*/room%d/**", i%100, i) },
		func(i int) string { return fmt.Sprintf("/area%d/{any}/room%d/", i%100, i) },
		func(i int) string { return fmt.Sprintf("/area%d/west/room%d/2026/page.html", i%100, i) },
	},
}

var sizes = []int{10, 100, 1000, 10_000}

func manyDoors(n int, s shape) string {
	var b strings.Builder
	b.WriteString("roles: {keeper: , trustee: {includes: keeper}}\ndoors:\n  - { path: /**, admit: signed-in }\n")
	for i := range n - 1 {
		fmt.Fprintf(&b, "  - { path: %s, admit: { role: keeper } }\n", s.door(i))
	}
	return b.String()
}

func BenchmarkDecide(b *testing.B) {
	for _, s := range shapes {
		for _, n := range sizes {
			paths := make([]string, 64)
			for i := range paths {
				paths[i] = s.path(i * 97 % (n - 1))
			}
			b.Run(fmt.Sprintf("%s/doors=%d/ServeMux", s.name, n), func(b *testing.B) {
				mux := http.NewServeMux()
				mux.Handle("/", http.NotFoundHandler())
				for i := range n - 1 {
					mux.Handle(s.pattern(i), http.NotFoundHandler())
				}
				r := &http.Request{Method: "GET", Host: "marram.example"}
				b.ReportAllocs()
				b.ResetTimer()
				for i := range b.N {
					var err error
					if r.URL, err = url.ParseRequestURI(paths[i&63]); err != nil {
						b.Fatal(err)
					}
					if _, pattern := mux.Handler(r); len(pattern) < 2 {
						b.Fatal(pattern)
					}
				}
			})
			b.Run(fmt.Sprintf("%s/doors=%d/Decide", s.name, n), func(b *testing.B) {
				book := sample.Parse(b, manyDoors(n, s))
				v := sample.Visitor(b, "role:trustee")
				b.ReportAllocs()
				b.ResetTimer()
				for i := range b.N {
					if d := book.Decide(policy.Request{"GET", "marram.example", paths[i&63]}, v); d.Outcome != policy.Admit || d.Door.Line < 4 {
						b.Fatal(d)
					}
				}
			})
		}
	}
}

// Loading: the time of reading and compiling a file, the memory that the Book keeps, and
// the memory that is needed on the way. The collector is set to run often, so that this is
// what is in use and not what has been left behind.
func BenchmarkLoad(b *testing.B) {
	for _, n := range []int{100, 10_000} {
		text := []byte(manyDoors(n, shapes[0]))
		b.Run(fmt.Sprintf("doors=%d", n), func(b *testing.B) {
			for range b.N {
				read.Parse("doors.yaml", text)
			}
		})
		b.Run(fmt.Sprintf("doors=%d/memory", n), func(b *testing.B) {
			defer debug.SetGCPercent(debug.SetGCPercent(10))
			var before, most, after runtime.MemStats
			var book *policy.Book
			for range b.N {
				book = nil
				debug.FreeOSMemory()
				runtime.ReadMemStats(&before)
				book, _ = read.Parse("doors.yaml", text)
				runtime.ReadMemStats(&most)
				runtime.GC()
				runtime.ReadMemStats(&after)
			}
			b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/(1<<20), "MB-kept")
			b.ReportMetric(float64(most.HeapSys-most.HeapReleased-(before.HeapSys-before.HeapReleased))/(1<<20), "MB-needed")
			runtime.KeepAlive(book)
		})
	}
}
