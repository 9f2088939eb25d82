package testserver

// This file is ways to servers that fail at the worst moment, as when the end of a
// transaction has been sent and its answer has not come, and one to several by turns.

import (
	"bytes"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"
	"time"
)

// relay is a URL by which servers are reached, each connection another by turns: pass
// carries what a client says and hears, and both ends are closed after it. After stop
// nobody gets through.
func relay(t testing.TB, rawURLs []string, pass func(client, there net.Conn)) (through string, stop func()) {
	t.Helper()
	var servers []string
	for _, raw := range rawURLs {
		u, err := url.Parse(raw)
		if err != nil {
			t.Fatal(err)
		}
		servers = append(servers, u.Host)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	stop = func() { l.Close() }
	t.Cleanup(stop)
	go func() {
		for n := 0; ; n++ {
			client, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer client.Close()
				there, err := net.Dial("tcp", servers[n%len(servers)])
				if err != nil {
					return
				}
				defer there.Close()
				pass(client, there)
			}()
		}
	}()
	u, _ := url.Parse(rawURLs[0])
	u.Host = l.Addr().String()
	return u.String(), stop
}

// answers carries what a server says, until either end is closed.
func answers(client, there net.Conn) {
	defer client.Close()
	_, _ = io.Copy(client, there)
}

// carry carries what a client says. Each packet is given to on, which returns what is
// passed on of it, and whether that was the last.
func carry(client, there net.Conn, on func(packet []byte) (pass []byte, last bool)) {
	buf := make([]byte, 1<<20)
	for {
		n, err := client.Read(buf)
		if err != nil {
			return
		}
		pass, last := on(buf[:n])
		if _, err := there.Write(pass); err != nil || last {
			return
		}
	}
}

// committing tells of packets which is the first COMMIT after word, once for each done.
func committing(word string, done *atomic.Bool) func(packet []byte) bool {
	said := false
	return func(packet []byte) bool {
		said = said || bytes.Contains(packet, []byte(word))
		return said && bytes.Contains(packet, []byte("COMMIT")) && done.CompareAndSwap(false, true)
	}
}

// Balanced is a URL behind which servers are reached by turns.
func Balanced(t testing.TB, rawURLs []string) string {
	t.Helper()
	through, _ := relay(t, rawURLs, func(client, there net.Conn) {
		go answers(client, there)
		_, _ = io.Copy(there, client)
	})
	return through
}

// Stalled is a URL by which a server is reached until stall is called: from then on nothing
// comes through in either direction, and no connection ends, as behind a network that
// drops what it is given.
func Stalled(t testing.TB, rawURL string) (through string, stall func()) {
	t.Helper()
	var stalled atomic.Bool
	over := make(chan struct{})
	t.Cleanup(func() { close(over) })
	copyUntil := func(to, from net.Conn) {
		buf := make([]byte, 1<<16)
		for {
			n, err := from.Read(buf)
			if stalled.Load() {
				<-over
			}
			if err != nil {
				return
			}
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
	}
	through, _ = relay(t, []string{rawURL}, func(client, there net.Conn) {
		go func() {
			defer client.Close()
			copyUntil(client, there)
		}()
		copyUntil(there, client)
	})
	return through, func() { stalled.Store(true) }
}

// Cut is a URL by which the same server is reached until some client has sent word and
// then a COMMIT; the COMMIT comes through, its answer does not, once for each URL. Where
// before is set, the COMMIT does not come through either.
func Cut(t testing.TB, rawURL, word string, before bool) string {
	t.Helper()
	var done atomic.Bool
	through, _ := relay(t, []string{rawURL}, func(client, there net.Conn) {
		var cut atomic.Bool
		go func() {
			defer client.Close()
			buf := make([]byte, 1<<15)
			for {
				n, err := there.Read(buf)
				if err != nil || cut.Load() {
					return
				}
				client.Write(buf[:n])
			}
		}()
		commit := committing(word, &done)
		carry(client, there, func(packet []byte) ([]byte, bool) {
			if !commit(packet) {
				return packet, false
			}
			cut.Store(true)
			if before {
				return nil, true
			}
			there.Write(packet)
			time.Sleep(200 * time.Millisecond)
			return nil, true
		})
	})
	return through
}

// Held is a URL by which the same server is reached, and which holds back the answer to the
// first COMMIT after word for a while; 0: it never comes.
func Held(t testing.TB, rawURL, word string, pause time.Duration) string {
	t.Helper()
	var done atomic.Bool
	through, _ := relay(t, []string{rawURL}, func(client, there net.Conn) {
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
		commit := committing(word, &done)
		carry(client, there, func(packet []byte) ([]byte, bool) {
			if commit(packet) {
				held.Store(true)
			}
			return packet, false
		})
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
	through, stop = relay(t, []string{rawURL}, func(client, there net.Conn) {
		go answers(client, there)
		carry(client, there, func(packet []byte) ([]byte, bool) {
			if len(packet) <= 4 || packet[3] != 0 || packet[4] != 3 { // no statement
				return packet, false
			}
			switch k := sent.Add(1); {
			case k == which && how == GivenUp:
				return limited(packet), false
			case k < which || how == GivenUp:
				return packet, false
			case k == which && how == CutWithin:
				_, _ = there.Write(packet)
			}
			stop()
			return nil, true
		})
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
