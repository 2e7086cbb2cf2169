package datafolder

import (
	"crypto/tls"
	"log/slog"
	"os"
	"sync"
	"time"
)

// lookAgain is how long the files of a certificate are taken for unchanged, so that many who connect cost no look each.
const lookAgain = 5 * time.Second

// Certificate is what a server proves itself with. It is read again where its files change: who renews it need not start the
// server anew, and nobody finds out by a fleet that is silent because it had ended.
type Certificate struct {
	cert, key string
	log       *slog.Logger

	mu     sync.Mutex
	pair   *tls.Certificate
	stamps [2]stamp
	looked time.Time
}

// stamp tells whether a file is another than it was.
type stamp struct {
	written time.Time
	size    int64
}

// LoadCertificate reads a certificate and its key, in PEM.
func LoadCertificate(cert, key string, log *slog.Logger) (*Certificate, error) {
	c := &Certificate{cert: cert, key: key, log: log}
	c.stamps = c.now()
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, err
	}
	c.pair, c.looked = &pair, time.Now()
	return c, nil
}

func (c *Certificate) now() (out [2]stamp) {
	for i, name := range []string{c.cert, c.key} {
		if info, err := os.Stat(name); err == nil {
			out[i] = stamp{info.ModTime(), info.Size()}
		}
	}
	return out
}

// current is the certificate as its files have it. One that cannot be used, because only half of it is written, say, takes no
// other's place.
func (c *Certificate) current() *tls.Certificate {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < lookAgain {
		return c.pair
	}
	c.looked = time.Now()
	is := c.now()
	if is == c.stamps {
		return c.pair
	}
	c.stamps = is
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		c.log.Error("the new certificate cannot be used; the one before is", "file", c.cert, "ends", c.pair.Leaf.NotAfter, "error", err)
		return c.pair
	}
	c.pair = &pair
	c.log.Info("the certificate is another one", "file", c.cert, "ends", pair.Leaf.NotAfter)
	return c.pair
}

// Ends is when the certificate does; zero where there is none.
func (c *Certificate) Ends() time.Time {
	if c == nil {
		return time.Time{}
	}
	return c.current().Leaf.NotAfter
}

func (c *Certificate) config() *tls.Config {
	return &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.current(), nil }}
}
