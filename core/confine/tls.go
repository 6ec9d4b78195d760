package confine

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"wetland/core/host"
)

// serveTLS takes connections off TLS, and passes on what comes, until the context ends.
func serveTLS(ctx context.Context, w host.World) error {
	pair, err := tls.X509KeyPair(w.Certificate, w.Key)
	if err != nil {
		return fmt.Errorf("the certificate of the copy: %w", err)
	}
	listener, err := tls.Listen("tcp", w.TLS, &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		return fmt.Errorf("listen for TLS: %w", err)
	}
	context.AfterFunc(ctx, func() { _ = listener.Close() })
	go func() {
		for {
			from, err := listener.Accept()
			if err != nil {
				return
			}
			go passOn(ctx, from, w.Plain)
		}
	}()
	return nil
}

func passOn(ctx context.Context, from net.Conn, plain string) {
	defer from.Close()
	to, err := (&net.Dialer{}).DialContext(ctx, "tcp", plain)
	if err != nil {
		return
	}
	defer to.Close()
	go func() {
		_, _ = io.Copy(to, from)
		if half, ok := to.(*net.TCPConn); ok {
			_ = half.CloseWrite()
		}
	}()
	_, _ = io.Copy(from, to)
}
