package from

import (
	"nightjar/api/model"
	"nightjar/traces"
	"nightjar/wire"
)

// ToFilter is the filter that proxies get.
func ToFilter(f model.RequestFilter) wire.Filter {
	return wire.Filter{
		From:     f.From,
		To:       f.To,
		Version:  f.Version,
		Instance: f.Instance,
		Site:     f.Site,
		Route:    f.Route,
		Method:   f.Method,
		Path:     f.Path,
		Status:   f.Status,
		Reason:   f.Reason,
		Outcome:  f.Outcome,
		Header:   f.Header,
		Attempts: f.Attempts,
		Request:  f.Request,
		SlowerMS: f.SlowerThan,
	}
}

// Request is one request that is over.
func Request(r wire.Record) model.RequestRecord {
	out := model.RequestRecord{
		At:            r.At,
		Proxy:         r.Proxy,
		Caller:        r.Caller,
		CallerVersion: r.CallerVersion,
		Service:       r.Service,
		Version:       r.Version,
		Instance:      r.Instance,
		CallerSite:    r.CallerSite,
		Site:          r.Site,
		Route:         r.Route,
		GatewayRoute:  r.Gate,
		RouteAt:       r.Written,
		Revision:      r.Revision,
		Method:        r.Method,
		Host:          r.Host,
		Path:          r.Path,
		Status:        r.Status,
		Outcome:       r.Outcome,
		Reason:        r.Reason,
		Detail:        r.Detail,
		ID:            r.ID,
		DurationMS:    r.MS,
		RequestBytes:  r.Sent,
		ResponseBytes: r.Received,
		Transport:     transport(r),
		Trace:         r.Trace,
		IsTraced:      r.Traced,
	}
	if r.CallerIdentity != "" {
		out.Identities = &model.LinkIdentities{From: r.CallerIdentity, To: r.ServiceIdentity}
	}
	for _, s := range r.Segments {
		out.Segments = append(out.Segments, model.Segment{
			Kind:       s.Kind,
			Instance:   s.Instance,
			StartMS:    s.FromMS,
			DurationMS: s.MS,
			Status:     s.Status,
			Reason:     s.Reason,
		})
	}
	return out
}

// Requests are requests that are over.
func Requests(in []wire.Record) []model.RequestRecord { return list(in, Request) }

// TraceSummaries are traces in a list.
func TraceSummaries(in []traces.Summary) []model.TraceSummary { return list(in, traceSummary) }

func traceSummary(s traces.Summary) model.TraceSummary {
	return model.TraceSummary{
		ID:             s.ID,
		At:             s.At,
		DurationMS:     s.MS,
		Caller:         s.Caller,
		Service:        s.Service,
		Method:         s.Method,
		Path:           s.Path,
		Status:         s.Status,
		Outcome:        s.Outcome,
		Reason:         s.Reason,
		Services:       s.Services,
		Sites:          s.Sites,
		Attempts:       s.Attempts,
		FailedAttempts: s.Failed,
		SpanCount:      s.Spans,
	}
}

// Trace is one trace with its spans.
func Trace(t traces.Trace) model.Trace {
	return model.Trace{TraceSummary: traceSummary(t.Summary), Spans: list(t.Rows, func(r traces.Row) model.TraceSpan {
		return model.TraceSpan{
			Trace:      r.Trace,
			ID:         r.ID,
			Parent:     r.Parent,
			Kind:       r.Kind,
			Proxy:      r.Proxy,
			Site:       r.Site,
			IsGateway:  r.Edge,
			Caller:     r.Caller,
			Service:    r.Service,
			Version:    r.Version,
			Instance:   r.Instance,
			Route:      r.Route,
			Method:     r.Method,
			Path:       r.Path,
			Status:     r.Status,
			Outcome:    r.Outcome,
			Reason:     r.Reason,
			Detail:     r.Detail,
			Depth:      r.Depth,
			StartMS:    r.FromMS,
			DurationMS: r.MS,
		}
	})}
}

// transport is how a request travelled to its instance.
func transport(r wire.Record) string {
	switch {
	case r.Mutual:
		return model.MutualTransport
	case r.Secured:
		return model.TLSTransport
	}
	return model.PlainTransport
}
