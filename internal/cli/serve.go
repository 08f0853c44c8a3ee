package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"

	"woodlark.example/internal/agent"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/service"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
	"woodlark.example/web"
)

var serveCommand = command{
	name: "serve", summary: "the service: controller, HTTP interface, console, and an agent of its own",
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
	h, err := settle(c, set, log, nil, nil)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	defer h.end()
	if err := h.AddAgent(c.ctx, store.Agent{Name: set.Name, Site: set.Site, Kind: "builtin"}, kernel.Host(), func(o *agent.Options) {
		if set.Far != "" {
			o.Listen = netip.MustParseAddrPort(set.Far)
		}
	}); err != nil {
		return exit{exitUnmeasured, err}
	}
	log.Info("ready", "address", h.URL(), "token_file", filepath.Join(set.State, tokenFile), "state", set.State)
	return h.Serve(c.ctx)
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
	*service.Service
	token string
	state string
	lock  *os.File
}

// settle locks the state folder, starts a service on it, and leaves a note for
// the command line.
func settle(c *call, set settings.Settings, log *slog.Logger, siteOf func(string) string, owners []byte) (*hosted, error) {
	h := &hosted{state: set.State}
	var err error
	if h.lock, err = lockState(set.State); err != nil {
		return nil, err
	}
	if h.token, err = adminToken(set.State); err != nil {
		return nil, errors.Join(err, h.lock.Close())
	}
	h.Service, err = service.Start(c.ctx, service.Options{Settings: set, Token: h.token, Version: Version, Console: web.Console(), SiteOf: siteOf, Owners: owners, Log: log})
	if err != nil {
		return nil, errors.Join(err, h.lock.Close())
	}
	if err := writeNote(set.State, note{URL: h.URL(), Pid: os.Getpid()}); err != nil {
		h.end()
		return nil, fmt.Errorf("leave a note for the command line: %w", err)
	}
	return h, nil
}

func (h *hosted) end() {
	h.Close()
	_ = os.Remove(filepath.Join(h.state, noteFile))
	_ = h.lock.Close()
}
