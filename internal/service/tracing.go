package service

import (
	"context"
	"net/http"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/noop"
)

// tracerName is what our spans are told by.
const tracerName = "yellowfence.example/yfence"

// tracer makes spans; those of nobody where no traces are wanted.
func (o *Options) tracer() trace.Tracer {
	if o.Traces == nil {
		return noop.NewTracerProvider().Tracer(tracerName)
	}
	return o.Traces.Tracer(tracerName)
}

// traced makes a span of each request, which goes on with the caller's if he sent one. It holds the route and what
// was answered, and nothing of what was sent.
func (s *Service) traced(next http.Handler) http.Handler {
	tracer, carried := s.tracer(), propagation.TraceContext{}
	if s.Traces == nil {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := carried.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
		ctx, span := tracer.Start(ctx, r.Method, trace.WithSpanKind(trace.SpanKindServer))
		defer span.End()
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(wrapped, r.WithContext(ctx))
		if route := chi.RouteContext(ctx); route != nil && route.RoutePattern() != "" {
			span.SetName(r.Method + " " + route.RoutePattern())
			span.SetAttributes(attribute.String("http.route", route.RoutePattern()))
		}
		span.SetAttributes(attribute.String("http.request.method", r.Method), attribute.Int("http.response.status_code", wrapped.Status()))
		if wrapped.Status() >= http.StatusInternalServerError {
			span.SetStatus(codes.Error, http.StatusText(wrapped.Status()))
		}
	})
}

// span makes a span of a piece of work; end ends it with what came of it.
func (s *Service) span(ctx context.Context, what string) (inner context.Context, end func(error)) {
	inner, span := s.tracer().Start(ctx, what)
	return inner, func(err error) {
		if err != nil {
			span.SetStatus(codes.Error, err.Error())
		}
		span.End()
	}
}
