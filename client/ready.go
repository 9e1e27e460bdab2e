package client

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"time"
)

// maxReadyBytes bounds what a service says when it is not ready.
const maxReadyBytes = 4 << 10

// Ready asks the service whether it can keep what it is told. why is empty when it can;
// at is the time by its clock, in whole seconds. The error is Unreachable when it does not
// respond.
func (c *Client) Ready(ctx context.Context) (why string, at time.Time, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/readyz", nil)
	if err != nil {
		return "", at, err
	}
	resp, err := c.http.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return "", at, &Unreachable{c.name, err}
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, maxReadyBytes))
	if err != nil {
		return "", at, err
	}
	at, _ = http.ParseTime(resp.Header.Get("Date"))
	if resp.StatusCode != http.StatusOK {
		why = string(text)
	}
	return why, at, nil
}
