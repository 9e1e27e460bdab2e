package forward

import (
	"net/http"
	"testing"

	"nightjar/core/engine"
)

// grpcRequest is one of gRPC.
type grpcRequest struct{ engine.View }

func (grpcRequest) Header(key string) []string {
	if key == "Content-Type" {
		return []string{"application/grpc+proto"}
	}
	return nil
}

// TestRefusalsOfGRPC: each reason of the mesh's has a status that callers know what to do
// with: a reason that is added is not to be an unknown fault.
func TestRefusalsOfGRPC(t *testing.T) {
	special := map[engine.Reason]string{
		engine.TimedOut: "4", engine.Denied: "7", engine.Shortage: "8", engine.Limited: "8", engine.NoRoute: "12",
		engine.BadRequest: "13", engine.TooLarge: "13", engine.Unauthenticated: "16",
	}
	for _, reason := range engine.Reasons {
		want := special[reason]
		if want == "" {
			want = "14" // it may be tried again
		}
		h := http.Header{}
		r := Refusal{Status: reason.Status(), Reason: reason, Detail: "50% of\tit"}
		status, body := r.Message(grpcRequest{}, true, h)
		if got := h["Grpc-Status"]; status != 200 || body != nil || len(got) != 1 || got[0] != want {
			t.Errorf("%s: HTTP %d, gRPC %v, want %s", reason, status, got, want)
		}
		if got := h["Grpc-Message"][0]; got != string(reason)+": 50%25 of%09it" {
			t.Errorf("%s: message %q", reason, got)
		}
	}
}
