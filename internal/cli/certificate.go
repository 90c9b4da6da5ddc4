package cli

import (
	"crypto/tls"
	"fmt"
	"os"
	"sync"
	"time"
)

// A certificate is the service's, read again where its file has changed.
type certificate struct {
	cert, key string

	mu     sync.Mutex
	loaded *tls.Certificate
	looked time.Time
	of     time.Time // when the file was written that is loaded
}

// loadCertificate reads a certificate with its key; there may be none.
func loadCertificate(cert, key string) (*certificate, error) {
	c := &certificate{cert: cert, key: key}
	if cert == "" {
		return c, nil
	}
	return c, c.read()
}

// read reads the files again if they are others than those that were read.
func (c *certificate) read() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.readLocked()
}

// readLocked is read, with the lock held.
func (c *certificate) readLocked() error {
	if c.cert == "" {
		return nil
	}
	info, err := os.Stat(c.cert)
	if err != nil {
		return err
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("the certificate %s with the key %s: %w", c.cert, c.key, err)
	}
	c.loaded, c.of = &pair, info.ModTime()
	return nil
}

// get gives the certificate. A file that changed is looked for every few seconds; one that
// cannot be read, or not with its key, changes nothing.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) > 5*time.Second {
		c.looked = time.Now()
		if info, err := os.Stat(c.cert); err == nil && !info.ModTime().Equal(c.of) {
			_ = c.readLocked()
		}
	}
	return c.loaded, nil
}
