package service

import (
	"net/http"
	"slices"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
)

// metrics are what the service counts of itself, in the form of Prometheus.
type metrics struct {
	requests map[policy.Outcome]prometheus.Counter
	handler  http.Handler
}

func newMetrics(version string) *metrics {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "ostiarius_build_info", Help: "1, with the version.", ConstLabels: prometheus.Labels{"version": version}})
	build.Set(1)
	requests := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ostiarius_requests_total", Help: "Requests by what they came to."}, []string{"outcome"})
	registry.MustRegister(build, requests)
	m := &metrics{requests: map[policy.Outcome]prometheus.Counter{}, handler: promhttp.HandlerFor(registry, promhttp.HandlerOpts{})}
	for _, outcome := range policy.Outcomes {
		m.requests[outcome] = requests.WithLabelValues(string(outcome))
	}
	return m
}

// serveMetrics shows the metrics to stewards, and to those networks that the settings
// allow. To others there is nothing.
func (s *Service) serveMetrics(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	v := t.Visitor
	allowed := v.SignedIn && slices.ContainsFunc(v.Roles, func(role string) bool { return t.Book.Satisfies(role, policy.Steward) })
	for _, network := range s.settings.MetricsFrom {
		allowed = allowed || v.From.IsValid() && network.Contains(v.From)
	}
	if !allowed {
		s.pages.Missing(w, r)
		return
	}
	w.Header().Set("Cache-Control", "private, no-store")
	s.metrics.handler.ServeHTTP(w, r)
}
