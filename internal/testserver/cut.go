package testserver

// This file is a way to a server that is cut off at the worst moment: when a
// transaction's end has been sent, and before its answer comes.

import (
	"bytes"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"
	"time"
)

// relay is a URL by which the same server is reached: pass carries what a client says and
// hears, and both ends are closed behind it. After stop nobody gets through.
func relay(t testing.TB, rawURL string, pass func(client, there net.Conn)) (through string, stop func()) {
	t.Helper()
	u, err := url.Parse(rawURL)
	if err != nil {
		t.Fatal(err)
	}
	server := u.Host
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	stop = func() { l.Close() }
	t.Cleanup(stop)
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer client.Close()
				there, err := net.Dial("tcp", server)
				if err != nil {
					return
				}
				defer there.Close()
				pass(client, there)
			}()
		}
	}()
	u.Host = l.Addr().String()
	return u.String(), stop
}

// Cut is a URL by which the same server is reached until some client has sent word and
// then a COMMIT; the COMMIT comes through, its answer does not, once for each URL. Where
// before is set, the COMMIT does not come through either.
func Cut(t testing.TB, rawURL, word string, before bool) string {
	t.Helper()
	var done atomic.Bool
	through, _ := relay(t, rawURL, func(client, there net.Conn) {
		var cut atomic.Bool
		go func() {
			buf := make([]byte, 1<<15)
			for {
				n, err := there.Read(buf)
				if err != nil || cut.Load() {
					client.Close()
					return
				}
				client.Write(buf[:n])
			}
		}()
		said := false
		buf := make([]byte, 1<<20)
		for {
			n, err := client.Read(buf)
			if err != nil {
				return
			}
			said = said || bytes.Contains(buf[:n], []byte(word))
			if said && bytes.Contains(buf[:n], []byte("COMMIT")) && done.CompareAndSwap(false, true) {
				cut.Store(true)
				if !before {
					there.Write(buf[:n])
					time.Sleep(200 * time.Millisecond)
				}
				return
			}
			if _, err := there.Write(buf[:n]); err != nil {
				return
			}
		}
	})
	return through
}

// Held is a URL by which the same server is reached, and which holds back the answer to the
// first COMMIT behind word for a while; 0: it never comes.
func Held(t testing.TB, rawURL, word string, pause time.Duration) string {
	t.Helper()
	var done atomic.Bool
	through, _ := relay(t, rawURL, func(client, there net.Conn) {
		var held atomic.Bool
		go func() {
			defer client.Close()
			buf := make([]byte, 1<<15)
			for {
				n, err := there.Read(buf)
				if err != nil {
					return
				}
				if held.Swap(false) {
					if pause == 0 { // until the client gives up
						select {}
					}
					time.Sleep(pause)
				}
				if _, err := client.Write(buf[:n]); err != nil {
					return
				}
			}
		}()
		said := false
		buf := make([]byte, 1<<20)
		for {
			n, err := client.Read(buf)
			if err != nil {
				return
			}
			said = said || bytes.Contains(buf[:n], []byte(word))
			if said && bytes.Contains(buf[:n], []byte("COMMIT")) && done.CompareAndSwap(false, true) {
				held.Store(true)
			}
			if _, err := there.Write(buf[:n]); err != nil {
				return
			}
		}
	})
	return through
}

// Interruption is what happens to a statement.
type Interruption int

// The interruptions: all connections are cut before the server gets it, or while it is at
// work on it; or the server is told to give it up at once.
const (
	CutBefore Interruption = iota
	CutWithin
	GivenUp
)

func (i Interruption) String() string { return [...]string{"cut before", "cut within", "given up"}[i] }

// Interrupted is a URL by which the same MariaDB server is reached, and which interrupts
// one of the statements, counted from 1. Sent is how many there were.
func Interrupted(t testing.TB, rawURL string, which int64, how Interruption) (through string, sent *atomic.Int64) {
	t.Helper()
	sent = &atomic.Int64{}
	var stop func()
	through, stop = relay(t, rawURL, func(client, there net.Conn) {
		go func() {
			defer client.Close()
			_, _ = io.Copy(client, there)
		}()
		buf := make([]byte, 1<<20)
		for {
			n, err := client.Read(buf)
			if err != nil {
				return
			}
			if n > 4 && buf[3] == 0 && buf[4] == 3 { // a statement
				k := sent.Add(1)
				if k == which && how == GivenUp {
					n = copy(buf, limited(buf[:n]))
				} else if k >= which && how != GivenUp {
					if k == which && how == CutWithin {
						_, _ = there.Write(buf[:n])
					}
					stop()
					return
				}
			}
			if _, err := there.Write(buf[:n]); err != nil {
				return
			}
		}
	})
	return through, sent
}

// limited is the packet of a statement for which the server takes no time.
func limited(packet []byte) []byte {
	if len(packet) != 4+int(packet[0])+int(packet[1])<<8+int(packet[2])<<16 {
		return packet // it goes on in another
	}
	body := append([]byte("\x03SET STATEMENT max_statement_time = 0.000001 FOR "), packet[5:]...)
	return append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), packet[3]}, body...)
}
