// Package metrics answers with what a monitoring system wants to know of the service.
//
// Invariant: figures are read from the catalogue when they are asked for, so that every instance tells the same.
package metrics

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"velvetrewind/engine/catalog"
	"velvetrewind/service/shapes"
)

// Metrics are read from the catalogue when they are asked for.
type Metrics struct {
	catalog  *catalog.Catalog
	registry *prometheus.Registry
}

var (
	metricLag = prometheus.NewDesc("velvet_capture_lag_bytes",
		"WAL that the server has written and capture has not made safe yet.", []string{"cluster"}, nil)
	metricBehind = prometheus.NewDesc("velvet_capture_complete_timestamp_seconds",
		"Server time up to which all WAL was safe here.", []string{"cluster"}, nil)
	metricAge = prometheus.NewDesc("velvet_capture_complete_age_seconds",
		"How long ago, by the server's clock, that was up to which all WAL was safe here.", []string{"cluster"}, nil)
	metricSpooled  = prometheus.NewDesc("velvet_capture_spooled_bytes", "Received WAL that waits for the store.", []string{"cluster"}, nil)
	metricRetained = prometheus.NewDesc("velvet_capture_retained_bytes", "WAL that the server retains for capture.",
		[]string{"cluster"}, nil)
	metricRoom = prometheus.NewDesc("velvet_capture_retainable_bytes",
		"WAL that the server can retain besides; missing where it has no limit and its disk is not known.", []string{"cluster"}, nil)
	metricClock = prometheus.NewDesc("velvet_clock_ahead_seconds", "By how much the server's clock is ahead of the service's.",
		[]string{"cluster"}, nil)
	metricStreaming = prometheus.NewDesc("velvet_capture_streaming",
		"1 while WAL is arriving: what the server had written a minute ago is safe here.", []string{"cluster"}, nil)
	metricBackup = prometheus.NewDesc("velvet_last_backup_timestamp_seconds", "When the newest base backup ended.",
		[]string{"cluster"}, nil)
	metricCopies = prometheus.NewDesc("velvet_copies", "Side copies that exist.", []string{"cluster"}, nil)
	metricTasks  = prometheus.NewDesc("velvet_tasks", "Tasks that wait or run.", []string{"state"}, nil)
)

// New makes the metrics of a catalogue.
func New(c *catalog.Catalog) *Metrics {
	m := &Metrics{catalog: c, registry: prometheus.NewRegistry()}
	m.registry.MustRegister(m, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Handler answers with the metrics as they are now.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// Describe implements prometheus.Collector.
func (m *Metrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{metricLag, metricBehind, metricAge, metricSpooled, metricRetained, metricRoom, metricClock,
		metricStreaming, metricBackup, metricCopies, metricTasks} {
		out <- d
	}
}

// Collect implements prometheus.Collector.
func (m *Metrics) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := m.collect(ctx, out); err != nil {
		out <- prometheus.NewInvalidMetric(metricLag, err)
	}
}

func (m *Metrics) collect(ctx context.Context, out chan<- prometheus.Metric) error {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	clusters, err := m.catalog.Clusters(ctx)
	if err != nil {
		return err
	}
	for _, k := range clusters {
		c, err := m.catalog.Capture(ctx, k.ID)
		if err != nil {
			return err
		}
		m.collectCapture(c, func(d *prometheus.Desc, v float64) { gauge(d, v, k.Name) })
		backups, err := m.catalog.Backups(ctx, k.ID)
		if err != nil {
			return err
		}
		if len(backups) > 0 {
			gauge(metricBackup, float64(backups[0].StoppedAt.UnixMilli())/1000, k.Name)
		}
		copies, err := m.catalog.Copies(ctx, k.ID)
		if err != nil {
			return err
		}
		gauge(metricCopies, float64(len(copies)), k.Name)
	}
	active, err := m.catalog.Tasks(ctx, catalog.TaskFilter{Active: true, Limit: 1000})
	if err != nil {
		return err
	}
	count := map[string]int{catalog.TaskWaiting: 0, catalog.TaskRunning: 0}
	for _, t := range active {
		count[t.State]++
	}
	for state, n := range count {
		gauge(metricTasks, float64(n), state)
	}
	return nil
}

// lateAge is how old what is complete may be while WAL counts as arriving.
const lateAge = time.Minute

func (m *Metrics) collectCapture(c catalog.Capture, gauge func(*prometheus.Desc, float64)) {
	gauge(metricLag, float64(shapes.LagBytes(c)))
	gauge(metricSpooled, float64(c.Spooled))
	gauge(metricRetained, float64(c.Retained))
	gauge(metricClock, c.ServerAhead().Seconds())
	if c.Room >= 0 {
		gauge(metricRoom, float64(c.Room))
	}
	arriving := 0.0
	if age, ok := c.CompleteAge(time.Now()); ok {
		gauge(metricBehind, float64(c.CompleteTo.Time.UnixMilli())/1000)
		gauge(metricAge, age.Seconds())
		if age < lateAge && c.Receives() {
			arriving = 1
		}
	}
	gauge(metricStreaming, arriving)
}
