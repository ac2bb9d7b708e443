package service

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"velvetrewind/engine/catalog"
)

// metrics are read from the catalogue when they are asked for.
type metrics struct {
	catalog  *catalog.Catalog
	registry *prometheus.Registry
}

var (
	metricLag = prometheus.NewDesc("velvet_capture_lag_bytes",
		"WAL that the server has written and capture has not made safe yet.", []string{"cluster"}, nil)
	metricBehind = prometheus.NewDesc("velvet_capture_complete_timestamp_seconds",
		"Server time up to which all WAL was safe here.", []string{"cluster"}, nil)
	metricStreaming = prometheus.NewDesc("velvet_capture_streaming", "1 while WAL is streaming.", []string{"cluster"}, nil)
	metricBackup    = prometheus.NewDesc("velvet_last_backup_timestamp_seconds", "When the newest base backup ended.", []string{"cluster"}, nil)
	metricCopies    = prometheus.NewDesc("velvet_copies", "Side copies that exist.", []string{"cluster"}, nil)
	metricTasks     = prometheus.NewDesc("velvet_tasks", "Tasks that wait or run.", []string{"state"}, nil)
)

func newMetrics(c *catalog.Catalog) *metrics {
	m := &metrics{catalog: c, registry: prometheus.NewRegistry()}
	m.registry.MustRegister(m, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// Describe implements prometheus.Collector.
func (m *metrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{metricLag, metricBehind, metricStreaming, metricBackup, metricCopies, metricTasks} {
		out <- d
	}
}

// Collect implements prometheus.Collector.
func (m *metrics) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := m.collect(ctx, out); err != nil {
		out <- prometheus.NewInvalidMetric(metricLag, err)
	}
}

func (m *metrics) collect(ctx context.Context, out chan<- prometheus.Metric) error {
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
		streaming := 0.0
		if c.State == catalog.CaptureStreaming {
			streaming = 1
		}
		gauge(metricStreaming, streaming, k.Name)
		gauge(metricLag, float64(lagBytes(c)), k.Name)
		if c.CompleteTo.Valid {
			gauge(metricBehind, float64(c.CompleteTo.Time.UnixMilli())/1000, k.Name)
		}
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
