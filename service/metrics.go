package service

import (
	"net/http"
	"sync/atomic"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ostiarius/core/policy"
)

// metrics are what the service counts of itself, in the form of Prometheus.
type metrics struct {
	own     atomic.Int64 // requests for own pages that were admitted
	handler http.Handler
}

// newMetrics makes the metrics. The function says how many requests for other than own pages
// came to an outcome.
func newMetrics(version string, total func(policy.Outcome) int64) *metrics {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "ostiarius_build_info", Help: "1, with the version.", ConstLabels: prometheus.Labels{"version": version}})
	build.Set(1)
	registry.MustRegister(build)
	m := &metrics{handler: promhttp.HandlerFor(registry, promhttp.HandlerOpts{})}
	for _, outcome := range policy.Outcomes {
		registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{
			Name: "ostiarius_requests_total", Help: "Requests by what they came to.", ConstLabels: prometheus.Labels{"outcome": string(outcome)},
		}, func() float64 {
			n := total(outcome)
			if outcome == policy.Admit {
				n += m.own.Load()
			}
			return float64(n)
		}))
	}
	return m
}

// serveMetrics shows the metrics to whom their built-in door admits.
func (s *Service) serveMetrics(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "private, no-store")
	s.metrics.handler.ServeHTTP(w, r)
}
