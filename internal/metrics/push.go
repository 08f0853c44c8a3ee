package metrics

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	bridge "go.opentelemetry.io/contrib/bridges/prometheus"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlpmetric/otlpmetrichttp"
	"go.opentelemetry.io/otel/sdk/metric"
	"go.opentelemetry.io/otel/sdk/metric/metricdata"
	"go.opentelemetry.io/otel/sdk/resource"
)

const (
	pushTime = 20 * time.Second // that one push may take
	lastPush = 3 * time.Second  // at the end
)

// Push hands the figures to a collector by OTLP over HTTP, each time that every is over, until
// ctx ends. url is such as http://127.0.0.1:4318/v1/metrics. What cannot be handed over is
// logged, and is not made up for: the next push has the newer figures.
func (r *Registry) Push(ctx context.Context, url string, every time.Duration, version string, log *slog.Logger) error {
	out, err := otlpmetrichttp.New(ctx, otlpmetrichttp.WithEndpointURL(url), otlpmetrichttp.WithTimeout(pushTime), otlpmetrichttp.WithRetry(otlpmetrichttp.RetryConfig{}))
	if err != nil {
		return fmt.Errorf("push figures to %s: %w", url, err)
	}
	about, err := resource.New(ctx, resource.WithAttributes(attribute.String("service.name", "woodlark"), attribute.String("service.version", version)))
	if err != nil {
		return fmt.Errorf("push figures to %s: %w", url, err)
	}
	reader := metric.NewManualReader(metric.WithProducer(bridge.NewMetricProducer(bridge.WithGatherer(r.Registry))))
	p := &pushing{reader: reader, out: out, url: url, log: log}
	provider := metric.NewMeterProvider(metric.WithResource(about), metric.WithReader(reader))
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		p.once(ctx)
		select {
		case <-ctx.Done():
			end, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastPush)
			defer cancel()
			return errors.Join(provider.Shutdown(end), out.Shutdown(end))
		case <-tick.C:
		}
	}
}

type pushing struct {
	reader *metric.ManualReader
	out    *otlpmetrichttp.Exporter
	url    string
	log    *slog.Logger
	failed bool
}

func (p *pushing) once(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, pushTime)
	defer cancel()
	var figures metricdata.ResourceMetrics
	err := p.reader.Collect(ctx, &figures)
	if err == nil {
		err = p.out.Export(ctx, &figures)
	}
	switch {
	case err != nil && !p.failed && ctx.Err() == nil:
		p.log.Warn("figures could not be pushed; it is tried again", "to", p.url, "error", err)
	case err == nil && p.failed:
		p.log.Info("figures are pushed again", "to", p.url)
	}
	p.failed = err != nil
}
