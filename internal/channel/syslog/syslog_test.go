package syslog_test

import (
	"bufio"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/channel/channeltest"
	"woodlark.example/internal/channel/syslog"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
)

// collector takes lines by TCP, with their length before them.
type collector struct {
	t      *testing.T
	listen net.Listener
	trust  string
	mu     sync.Mutex
	lines  []string
	hangs  bool
	open   sync.WaitGroup
}

func newCollector(t *testing.T, secure bool) *collector {
	c := &collector{t: t}
	var err error
	c.listen, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	if secure {
		var by *tls.Config
		by, c.trust = channeltest.Certificate(t)
		c.listen = tls.NewListener(c.listen, by)
	}
	c.open.Go(func() {
		for {
			conn, err := c.listen.Accept()
			if err != nil {
				return
			}
			c.open.Go(func() { c.take(conn) })
		}
	})
	t.Cleanup(func() { c.Die(); c.open.Wait() })
	return c
}

func (c *collector) take(conn net.Conn) {
	defer conn.Close()
	c.mu.Lock()
	hangs := c.hangs
	c.mu.Unlock()
	if hangs {
		_, _ = io.Copy(io.Discard, conn)
		time.AfterFunc(200*time.Millisecond, func() { conn.Close() })
		buffer := make([]byte, 1)
		for { // it says nothing, and does not close
			if _, err := conn.Write(buffer[:0]); err != nil {
				return
			}
			if _, err := conn.Read(buffer); err != nil && err != io.EOF {
				return
			}
			c.mu.Lock()
			hangs = c.hangs
			c.mu.Unlock()
			if !hangs {
				return
			}
		}
	}
	r := bufio.NewReader(conn)
	for {
		length, err := r.ReadString(' ')
		if err != nil {
			return
		}
		n, err := strconv.Atoi(strings.TrimSpace(length))
		if !assert.NoError(c.t, err) {
			return
		}
		line := make([]byte, n)
		if _, err := io.ReadFull(r, line); !assert.NoError(c.t, err) {
			return
		}
		c.mu.Lock()
		c.lines = append(c.lines, string(line))
		c.mu.Unlock()
	}
}

func (c *collector) Settings() string {
	by := "tcp"
	if c.trust != "" {
		by = "tls"
	}
	s, _ := json.Marshal(map[string]any{"address": c.listen.Addr().String(), "by": by, "host": "quay", "authorities": c.trust})
	return string(s)
}

var id = regexp.MustCompile(` id="([^"]+)"`)

func (c *collector) Got() (list []ident.ID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, l := range c.lines {
		one, err := ident.Parse(id.FindStringSubmatch(l)[1])
		assert.NoError(c.t, err)
		list = append(list, one)
	}
	return list
}

func (c *collector) Die() {
	c.mu.Lock()
	c.hangs = false
	c.mu.Unlock()
	c.listen.Close()
}

func (c *collector) Hang() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.hangs = true
}

func TestByTCP(t *testing.T) {
	channeltest.Conforms(t, syslog.Type, func(t *testing.T) channeltest.Receiver { return newCollector(t, false) })
}

func TestByTLS(t *testing.T) {
	channeltest.Conforms(t, syslog.Type, func(t *testing.T) channeltest.Receiver { return newCollector(t, true) })
}

func deliver(t *testing.T, settings string, m channel.Message) error {
	s, err := syslog.Type.Decode([]byte(settings))
	require.NoError(t, err)
	c, err := syslog.Type.Open(s)
	require.NoError(t, err)
	return c.Deliver(t.Context(), m)
}

// TestALine: as RFC 5424, section 6, has it; what would break a line is in it no more.
func TestALine(t *testing.T) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer conn.Close()
	m := channel.Message{ID: ident.New(), At: time.Date(2026, 11, 29, 10, 0, 0, 123456789, time.UTC), What: "opened", Subject: `a"b]c\d`, Order: 1, Title: "northquay → holm:\nlost"}
	require.NoError(t, deliver(t, fmt.Sprintf(`{"address": %q, "facility": 4, "host": "quay"}`, conn.LocalAddr()), m))
	buffer := make([]byte, 2000)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
	n, _, err := conn.ReadFrom(buffer)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("<35>1 2026-11-29T10:00:00.123456Z quay woodlark - opened [message@32473 id=%q subject=\"a\\\"b\\]c\\\\d\" sequence=\"1\"] \ufeffnorthquay → holm: lost", m.ID), string(buffer[:n]))
	for what, pri := range map[string]string{"closed": "<37>", "reminder": "<36>", "test": "<38>", "anything": "<37>"} {
		m.What = what
		require.NoError(t, deliver(t, fmt.Sprintf(`{"address": %q, "facility": 4}`, conn.LocalAddr()), m))
		n, _, err := conn.ReadFrom(buffer)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(buffer[:n]), pri), what)
	}
}

func TestSettingsThatCannotBe(t *testing.T) {
	for settings, says := range map[string]string{
		`{}`: "address", `{"address": "logs"}`: "logs.northquay.example:6514", `{"address": "a:1", "by": "post"}`: "by", `{"address": "a:1", "facility": 24}`: "between 0 and 23", `{"address": "a:1", "host": "a b"}`: "blanks", `{"address": "a:1", "authorities": "x"}`: "PEM",
	} {
		_, err := syslog.Type.Decode([]byte(settings))
		assert.ErrorIs(t, err, kind.ErrInvalid, settings)
		assert.ErrorContains(t, err, says, settings)
	}
}
