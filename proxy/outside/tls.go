package outside

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strings"

	"nightjar/certs"
	"nightjar/core/rules"
)

// Follow takes what rules say about TLS into use.
func (d *Dialer) Follow(rs *rules.Rules) {
	wanted := map[string]rules.ServiceTLS{}
	if rs != nil {
		for _, s := range rs.Services {
			if s.TLS != nil {
				wanted[s.Name] = *s.TLS
			}
		}
	}
	d.files.Lock()
	d.wanted = wanted
	d.files.Unlock()
	d.Refresh()
}

// Refresh reads the files again. Those that cannot be used leave the last good ones in use.
func (d *Dialer) Refresh() {
	d.files.Lock()
	defer d.files.Unlock()
	if len(d.wanted) == 0 {
		d.failed, d.read = "", nil
		if d.configs.Load() != nil {
			d.configs.Store(nil)
		}
		return
	}
	var failed []error
	configs, read := map[string]*tls.Config{}, map[string][3]string{}
	for service, w := range d.wanted {
		text, err := d.texts(&w)
		var cfg *tls.Config
		if all := d.configs.Load(); all != nil {
			cfg = (*all)[service]
		}
		if isSame := cfg != nil && d.read[service] == text && cfg.ServerName == w.Name; err == nil && !isSame {
			var made *tls.Config
			if made, err = newConfig(&w, text); err == nil {
				cfg = made
			}
		}
		if cfg != nil {
			configs[service], read[service] = cfg, text
		}
		if err != nil {
			text = d.read[service] // so that it is tried, and told of, again
			read[service] = text
			failed = append(failed, fmt.Errorf("TLS of service %s: %w", service, err))
		}
	}
	d.failed = ""
	if len(failed) > 0 {
		slices.SortFunc(failed, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
		d.failed = errors.Join(failed...).Error()
	}
	d.read = read
	d.configs.Store(&configs)
}

const maxFile = 1 << 20

func (d *Dialer) texts(w *rules.ServiceTLS) (out [3]string, err error) {
	for i, file := range []string{w.Authority, w.Cert, w.Key} {
		if file == "" {
			continue
		}
		file = certs.Under(d.Dir, file)
		info, err := os.Stat(file)
		if err == nil && info.Size() > maxFile {
			err = fmt.Errorf("%s is longer than %d bytes", file, maxFile)
		}
		if err != nil {
			return out, err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return out, err
		}
		out[i] = string(text)
	}
	return out, nil
}

func newConfig(w *rules.ServiceTLS, text [3]string) (*tls.Config, error) {
	cfg := &tls.Config{ServerName: w.Name, MinVersion: tls.VersionTLS12}
	if w.Authority != "" {
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM([]byte(text[0])) {
			return nil, fmt.Errorf("there is no certificate in PEM in %s", w.Authority)
		}
	}
	if w.Cert != "" {
		pair, err := tls.X509KeyPair([]byte(text[1]), []byte(text[2]))
		if err != nil {
			return nil, fmt.Errorf("%s and %s: %w", w.Cert, w.Key, err)
		}
		cfg.Certificates = []tls.Certificate{pair}
	}
	return cfg, nil
}

// errNoFiles is why a service cannot be called whose files were never good.
var errNoFiles = errors.New("its certificates cannot be used: see the problems of this proxy")

// Config is how TLS is spoken to an instance of a service. protocols are offered by ALPN;
// none: nothing is.
func (d *Dialer) Config(service, address string, protocols ...string) (*tls.Config, error) {
	cfg := &tls.Config{}
	if d != nil {
		if d.Default != nil {
			cfg = d.Default.Clone()
		}
		if all := d.configs.Load(); all != nil {
			if own := (*all)[service]; own != nil {
				cfg = own.Clone()
			} else if d.wants(service) {
				return nil, &tls.CertificateVerificationError{Err: errNoFiles}
			}
		}
	}
	if cfg.ServerName == "" {
		cfg.ServerName, _, _ = net.SplitHostPort(address)
	}
	cfg.NextProtos = protocols
	return cfg, nil
}

func (d *Dialer) wants(service string) bool {
	d.files.Lock()
	defer d.files.Unlock()
	_, does := d.wanted[service]
	return does
}

// Secure speaks TLS on a connection to an instance of a service, and closes it if that fails.
func (d *Dialer) Secure(ctx context.Context, conn net.Conn, service, address string, protocols ...string) (*tls.Conn, error) {
	cfg, err := d.Config(service, address, protocols...)
	if err != nil {
		conn.Close()
		return nil, err
	}
	t := tls.Client(conn, cfg)
	if err := Handshake(ctx, t); err != nil {
		conn.Close()
		return nil, err
	}
	return t, nil
}

// Handshake is that of a connection's TLS. One that ends or does not come about in time is the
// error of a connection that could not be opened, since nothing was sent on it yet.
func Handshake(ctx context.Context, t *tls.Conn) error {
	err := t.HandshakeContext(ctx)
	if err != nil && IsBroken(err) {
		return &net.OpError{Op: "dial", Net: "tcp", Addr: t.RemoteAddr(), Err: err}
	}
	return err
}

// IsBroken tells whether a connection ended, in contrast to what was said on it.
func IsBroken(err error) bool {
	var op *net.OpError
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, context.Canceled) || errors.As(err, &op) && op.Op != "remote error" && op.Op != "local error"
}
