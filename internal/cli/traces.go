package cli

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
)

// traces are what the service tells of its requests.
type traces struct{ to *sdk.TracerProvider }

// tracesTo has traces be sent to an address; nowhere where there is none.
func tracesTo(ctx context.Context, address string) (t traces, err error) {
	if address == "" {
		return t, nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return t, fmt.Errorf("--traces is the address of a collector, as https://traces.example:4318, without a secret, not %q", address)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces" // where OTLP has them
	}
	out, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()), otlptracehttp.WithTimeout(5*time.Second))
	if err != nil {
		return t, fmt.Errorf("--traces: %w", err)
	}
	who := resource.NewSchemaless(attribute.String("service.name", "yellow-fence"))
	return traces{sdk.NewTracerProvider(sdk.WithBatcher(out, sdk.WithMaxQueueSize(2048)), sdk.WithResource(who))}, nil
}

// provider is what makes spans; nil where nobody is told.
func (t traces) provider() trace.TracerProvider {
	if t.to == nil {
		return nil
	}
	return t.to
}

// end sends what is left, if that takes no longer than the service may take to stop.
func (t traces) end() {
	if t.to == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	_ = t.to.Shutdown(ctx) // a collector that is away is no reason to stay
}
