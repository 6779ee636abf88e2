package service

import (
	"context"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
)

// metrics are what the service counts of itself, in the form of Prometheus.
type metrics struct {
	own      atomic.Int64 // requests for own pages that were admitted
	judging  prometheus.Histogram
	behind   *prometheus.HistogramVec
	failures *prometheus.CounterVec
	registry *prometheus.Registry
	handler  http.Handler
}

// newMetrics makes the metrics of a version.
func newMetrics(version string) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		judging: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "ostiarius_judging_seconds", Help: "How long it took to judge a request, without answering it.",
			Buckets: []float64{1e-5, 3e-5, 1e-4, 1e-3, 1e-2, 0.1, 1, 10},
		}),
		behind: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "ostiarius_upstream_seconds", Help: "After how long a server behind began to answer.",
			Buckets: []float64{0.001, 0.005, 0.02, 0.1, 0.5, 2, 10, 30},
		}, []string{"proxy"}),
		failures: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "ostiarius_upstream_failures_total", Help: "Requests that a server behind did not answer.",
		}, []string{"proxy"}),
	}
	build := prometheus.NewGauge(prometheus.GaugeOpts{
		Name: "ostiarius_build_info", Help: "1, with the version.", ConstLabels: prometheus.Labels{"version": version},
	})
	build.Set(1)
	m.registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), build,
		m.judging, m.behind, m.failures)
	m.handler = promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
	return m
}

// took notes after how long a server behind began to answer, or that it did not.
func (m *metrics) took(proxy string, d time.Duration, answered bool) {
	if !answered {
		m.failures.WithLabelValues(proxy).Inc()
		return
	}
	m.behind.WithLabelValues(proxy).Observe(d.Seconds())
}

// read adds what is looked up when somebody asks.
func (m *metrics) read(r *rooms.Rooms, p *inforce.Policy, waiting func() int,
	messages func(context.Context) (map[message.State]int, error)) {
	counter := func(name, help string, labels prometheus.Labels, n func() float64) {
		m.registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: name, Help: help, ConstLabels: labels}, n))
	}
	gauge := func(name, help string, n func() float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, n))
	}
	for _, outcome := range policy.Outcomes {
		counter("ostiarius_requests_total", "Requests by what they came to.", prometheus.Labels{"outcome": string(outcome)}, func() float64 {
			n := r.Activity.Total(outcome)
			if outcome == policy.Admit {
				n += m.own.Load()
			}
			return float64(n)
		})
	}
	for result, n := range map[string]func() int64{
		"right":  func() int64 { return r.SignIn.Tries().Right },
		"wrong":  func() int64 { return r.SignIn.Tries().Wrong },
		"slowed": func() int64 { return r.SignIn.Tries().Slowed },
	} {
		counter("ostiarius_password_tries_total", "Tries at the password of an account, by what they came to.",
			prometheus.Labels{"result": result}, func() float64 { return float64(n()) })
	}
	gauge("ostiarius_hashing_waiting", "Passwords that wait to be compared.", func() float64 { return float64(waiting()) })
	gauge("ostiarius_policy_version", "The version of the policy in force.", func() float64 { return float64(p.Version()) })
	gauge("ostiarius_policy_stuck", "1 if the policy file is not in force and does not come into force by itself.", func() float64 {
		if pending := p.Pending(); pending != nil && pending.Stuck {
			return 1
		}
		return 0
	})
	gauge("ostiarius_unwritten", "What was taken away and could not be written down yet.",
		func() float64 { return float64(len(r.Endings.Words())) })
	m.registry.MustRegister(&recorded{rooms: r, messages: messages})
}

// recorded are the metrics that are counted in the records. What cannot be read in time is left out.
type recorded struct {
	rooms    *rooms.Rooms
	messages func(context.Context) (map[message.State]int, error)
}

var (
	sessionsThere = prometheus.NewDesc("ostiarius_sessions", "Sessions that hold.", nil, nil)
	messagesThere = prometheus.NewDesc("ostiarius_messages", "Messages by mail, by state.", []string{"state"}, nil)
)

func (c *recorded) Describe(to chan<- *prometheus.Desc) {
	to <- sessionsThere
	to <- messagesThere
}

func (c *recorded) Collect(to chan<- prometheus.Metric) {
	ctx, done := context.WithTimeout(context.Background(), readWithin)
	defer done()
	if _, n, err := c.rooms.Sessions.List(ctx, nil, "", 0, 1); err == nil {
		to <- prometheus.MustNewConstMetric(sessionsThere, prometheus.GaugeValue, float64(n))
	}
	if counts, err := c.messages(ctx); err == nil {
		for _, state := range message.States {
			to <- prometheus.MustNewConstMetric(messagesThere, prometheus.GaugeValue, float64(counts[state]), string(state))
		}
	}
}

// serveMetrics shows the metrics to whom their built-in door admits.
func (s *Service) serveMetrics(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "private, no-store")
	s.metrics.handler.ServeHTTP(w, r)
}
