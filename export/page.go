// Package export gives to other systems what was found: measures, as a page that they ask for or by
// OTLP, and entries, delivered onward. What goes out, how far that has come, and whatever keeps it from
// going on is said as a State; nothing is decided about alerts here.
package export

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlpmetric/otlpmetrichttp"
	"go.opentelemetry.io/otel/sdk/instrumentation"
	"go.opentelemetry.io/otel/sdk/metric/metricdata"
	"go.opentelemetry.io/otel/sdk/resource"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/measure"
)

// Measures gives measures out, as the settings say.
type Measures struct {
	// Settings are those at work. Families are all that is measured now. Both may be called concurrently.
	Settings func() lang.Measures
	Families func(context.Context) ([]measure.Family, error)
	// Trouble is told what keeps them from going out, by what it is about; "" is nothing any more.
	Trouble func(ctx context.Context, about, words string)
	Host    string
	Roots   *x509.CertPool // trusted instead of the system's; nil is the system's
}

// lookAgain is how often it is seen whether the settings have changed.
const lookAgain = time.Second

// Listen answers at the address of the settings, and at another one once they say so, until the context
// ends.
func (m *Measures) Listen(ctx context.Context) {
	at, stop := "", func() {}
	defer func() { stop() }()
	again := time.NewTicker(lookAgain)
	defer again.Stop()
	for {
		if want := m.Settings().Listen; want != at {
			stop()
			at, stop = want, func() {}
			if want != "" {
				var err error
				if stop, err = m.serve(ctx, want); err != nil {
					m.Trouble(ctx, "measures", fmt.Sprintf("nobody can ask for measures at %s: %v; settings { "+
						"measures listen … } says another address", want, reason(err)))
					at, stop = "", func() {} // it is tried again
				} else {
					m.Trouble(ctx, "measures", "")
				}
			} else {
				m.Trouble(ctx, "measures", "")
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-again.C:
		}
	}
}

// reason is what is the matter, without where.
func reason(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}

// serve answers at an address until it is stopped.
func (m *Measures) serve(ctx context.Context, address string) (stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", m.page)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintln(w, "Measures of Dim Lantern are at /metrics, in OpenMetrics 1.0.")
	})
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	go s.Serve(l)
	return func() { s.Close() }, nil
}

func (m *Measures) page(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 20*time.Second)
	defer cancel()
	families, err := m.Families(ctx)
	if err != nil {
		http.Error(w, "measures cannot be given just now: "+err.Error(), http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", measure.ContentType)
	measure.Write(w, families) // who asked may have gone
}

// Send sends measures by OTLP as often as the settings say, until the context ends.
func (m *Measures) Send(ctx context.Context) {
	var to string
	var exporter *otlpmetrichttp.Exporter
	last := time.Time{}
	again := time.NewTicker(lookAgain / 4)
	defer again.Stop()
	for {
		s := m.Settings()
		if s.To != to {
			exporter, to, last = nil, s.To, time.Time{}
			m.Trouble(ctx, "measures-to", "")
		}
		if to != "" && time.Since(last) >= s.Every {
			last = time.Now()
			var err error
			if exporter == nil {
				exporter, err = m.exporter(ctx, to)
			}
			if err == nil {
				err = m.send(ctx, exporter, s.Every)
			}
			if err != nil && ctx.Err() == nil {
				m.Trouble(ctx, "measures-to", fmt.Sprintf("measures do not reach %s: %s; they go on being "+
					"counted, and what is sent next holds all of it", to, oneLine(err.Error())))
			} else if err == nil {
				m.Trouble(ctx, "measures-to", "")
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-again.C:
		}
	}
}

// metricsURL is where metrics are posted to (OTLP/HTTP, "Endpoint"): the path of the protocol behind what is
// named, unless it is there already.
func metricsURL(to string) string { return signalURL(to, "/v1/metrics") }

func signalURL(to, path string) string {
	if strings.HasSuffix(to, path) {
		return to
	}
	return strings.TrimSuffix(to, "/") + path
}

func (m *Measures) exporter(ctx context.Context, to string) (*otlpmetrichttp.Exporter, error) {
	options := []otlpmetrichttp.Option{otlpmetrichttp.WithEndpointURL(metricsURL(to)),
		otlpmetrichttp.WithRetry(otlpmetrichttp.RetryConfig{})} // the next one says all that this one does
	if strings.HasPrefix(to, "https://") {
		options = append(options, otlpmetrichttp.WithTLSClientConfig(&tls.Config{RootCAs: m.Roots,
			MinVersion: tls.VersionTLS12}))
	}
	return otlpmetrichttp.New(ctx, options...)
}

func (m *Measures) send(ctx context.Context, to *otlpmetrichttp.Exporter, every time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, min(max(every, 5*time.Second), 30*time.Second))
	defer cancel()
	families, err := m.Families(ctx)
	if err != nil {
		return err
	}
	return to.Export(ctx, &metricdata.ResourceMetrics{
		Resource: resource.NewSchemaless(attribute.String("service.name", "dim-lantern"),
			attribute.String("host.name", m.Host)),
		ScopeMetrics: []metricdata.ScopeMetrics{{Scope: instrumentation.Scope{Name: "dim-lantern"},
			Metrics: metricsOf(families, time.Now())}},
	})
}

// metricsOf are families as the data model of OTLP has them (Metrics Data Model, "Metric Points"): counters
// are monotonic and cumulative.
func metricsOf(families []measure.Family, now time.Time) []metricdata.Metrics {
	var out []metricdata.Metrics
	for i := range families {
		f := &families[i]
		x := metricdata.Metrics{Name: f.Name, Description: f.Help, Unit: otlpUnit(f)}
		switch f.Type {
		case measure.Histogram:
			x.Data = histogramOf(f, now)
		case measure.Gauge:
			g := metricdata.Gauge[float64]{}
			for j := range f.Points {
				g.DataPoints = append(g.DataPoints, pointOf(f, &f.Points[j], now))
			}
			x.Data = g
		default:
			s := metricdata.Sum[float64]{Temporality: metricdata.CumulativeTemporality, IsMonotonic: true}
			for j := range f.Points {
				s.DataPoints = append(s.DataPoints, pointOf(f, &f.Points[j], now))
			}
			x.Data = s
		}
		if len(f.Points) > 0 {
			out = append(out, x)
		}
	}
	return out
}

// otlpUnit is the unit by UCUM.
func otlpUnit(f *measure.Family) string {
	switch f.Unit {
	case "seconds":
		return "s"
	case "bytes":
		return "By"
	}
	return ""
}

func pointOf(f *measure.Family, p *measure.Point, now time.Time) metricdata.DataPoint[float64] {
	d := metricdata.DataPoint[float64]{Attributes: attributesOf(f, p), Time: now, Value: p.Value}
	if p.Began != 0 {
		d.StartTime = p.Began.Time()
	}
	d.Exemplars = exemplarOf(nil, &p.Example)
	return d
}

func histogramOf(f *measure.Family, now time.Time) metricdata.Histogram[float64] {
	h := metricdata.Histogram[float64]{Temporality: metricdata.CumulativeTemporality}
	for i := range f.Points {
		p := &f.Points[i]
		d := metricdata.HistogramDataPoint[float64]{Attributes: attributesOf(f, p), StartTime: p.Began.Time(),
			Time: now, Count: uint64(p.Count), Sum: p.Sum}
		before := int64(0)
		for j := range p.Buckets {
			b := &p.Buckets[j]
			if j < len(p.Buckets)-1 {
				d.Bounds = append(d.Bounds, b.Most)
			}
			d.BucketCounts = append(d.BucketCounts, uint64(b.Count-before))
			before = b.Count
			d.Exemplars = exemplarOf(d.Exemplars, &b.Example)
		}
		h.DataPoints = append(h.DataPoints, d)
	}
	return h
}

func attributesOf(f *measure.Family, p *measure.Point) attribute.Set {
	var list []attribute.KeyValue
	for i, l := range f.Labels {
		if i < len(p.Labels) && p.Labels[i] != "" {
			list = append(list, attribute.String(l, p.Labels[i]))
		}
	}
	return attribute.NewSet(list...)
}

func exemplarOf(to []metricdata.Exemplar[float64], x *measure.Exemplar) []metricdata.Exemplar[float64] {
	if x.Where == "" {
		return to
	}
	at := x.At
	if at == entry.None {
		at = 0
	}
	return append(to, metricdata.Exemplar[float64]{FilteredAttributes: []attribute.KeyValue{
		attribute.String("entry", x.Where)}, Time: at.Time(), Value: x.Value})
}
