package cli

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"woodlark.example/internal/agent"
	"woodlark.example/internal/host"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/serve"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
	"woodlark.example/web"
)

var serveCommand = command{
	name: "serve", summary: "the service: HTTP interface, console, and an agent of its own",
	usage:   "[options]",
	example: "woodlark serve -listen 127.0.0.1:7373\nwoodlark serve -config /etc/woodlark.yaml -log-form json",
	more: "Each setting is also an environment variable (listen: WOODLARK_LISTEN) and a key of the\n" +
		"YAML file that -config or WOODLARK_CONFIG names. Flags go before variables before the file.",
	run: runServe,
}

func runServe(c *call) error {
	read := settings.Register(c.flags)
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("there is nothing to do with %q", short(c.args[0]))
	}
	set, err := read()
	if err != nil {
		return exit{exitWrongCall, err}
	}
	log := logger(c, set)
	local := &serve.Local{Agent: store.Agent{Name: set.Name, Site: set.Site, Kind: "builtin"}, Network: kernel.Host(), More: func(o *agent.Options) {
		if set.Far != "" {
			o.Listen = netip.MustParseAddrPort(set.Far)
		}
		o.Conversations, o.Talks = list(set.Conversations), &host.Talks{}
	}}
	if set.Together {
		local = nil
	}
	var h *hosted
	ready := make(chan struct{})
	h, err = settle(c, serve.Options{Settings: set, Local: local, Log: log, Ready: func() { close(ready) }})
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	defer h.end()
	over := make(chan struct{})
	defer close(over)
	go func() {
		select {
		case <-ready:
			if pin := h.Pin(); pin != "" {
				log.Info("this service shows a certificate of its own making: agents trust it by this, which is in each invite, and a browser shows it as that of the public key", "trust", pin)
			}
			log.Info("ready", "address", h.URL(), "token_file", filepath.Join(set.State, tokenFile), "state", set.State)
			if link := h.FirstLink(c.ctx); link != "" {
				log.Info("nobody is let in by name yet: this link makes the first administrator, once", "link", link)
			}
		case <-over:
		}
	}()
	if err := h.Serve(c.ctx); err != nil {
		return exit{exitUnmeasured, err}
	}
	return nil
}

func logger(c *call, set settings.Settings) *slog.Logger {
	var level slog.Level
	_ = level.UnmarshalText([]byte(set.LogLevel))
	options := &slog.HandlerOptions{Level: level}
	if set.LogForm == "json" {
		return slog.New(slog.NewJSONHandler(c.err, options))
	}
	return slog.New(slog.NewTextHandler(c.err, options))
}

// hosted is a service with what it leaves in its state folder.
type hosted struct {
	*serve.Process
	token string
	state string
	cert  string // the file of the certificate that it shows
	lock  *os.File
}

// settle locks the state folder, starts a service on it, and leaves a note for
// the command line.
func settle(c *call, o serve.Options) (*hosted, error) {
	h := &hosted{state: o.Settings.State}
	var err error
	if h.lock, err = lockState(h.state); err != nil {
		return nil, err
	}
	if h.token, err = adminToken(h.state); err != nil {
		return nil, errors.Join(err, h.lock.Close())
	}
	o.Token, o.Version, o.Console = h.token, Version, web.Console()
	if h.Process, err = serve.Start(c.ctx, o); err != nil {
		return nil, errors.Join(err, h.lock.Close())
	}
	h.cert = h.CertFile()
	if err := writeNote(h.state, h.note()); err != nil {
		o.Log.Error("no note could be left for the command line, which does not find this service now; it is tried again", "error", err)
		go h.leaveNote(c.ctx)
	}
	return h, nil
}

func (h *hosted) note() note {
	n := note{URL: h.URL(), Pid: os.Getpid()}
	if h.cert != "" {
		n.Cert, _ = filepath.Abs(h.cert)
	}
	return n
}

// leaveNote tries to leave the note until there is room for it.
func (h *hosted) leaveNote(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(5 * time.Second):
		}
		if writeNote(h.state, h.note()) == nil {
			return
		}
	}
}

func (h *hosted) end() {
	h.Close()
	_ = os.Remove(filepath.Join(h.state, noteFile))
	_ = h.lock.Close()
}
