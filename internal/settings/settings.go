// Package settings reads the service's settings: flags before environment
// before one YAML file before defaults. All of them stand in one table here.
package settings

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/yamlfile"
)

// Settings of the service.
type Settings struct {
	Listen string
	// HostNames are names by which browsers reach the console, in small letters.
	HostNames []string
	Plain     bool // HTTP in clear beyond loopback
	// Files of the certificate that is shown, and of its key; empty for HTTP in clear.
	Cert, CertKey string
	State         string
	Database      string
	Together      bool   // it shares the database with other services
	Reach         string // where those reach it; at Listen when empty
	Name          string
	Site          string
	Zone          *time.Location
	// Holidays, Tolerance and Maintenance are how paths are judged, as written.
	Holidays, Tolerance, Maintenance string
	Conversations                    string // programs, whom the service's own agent may look at
	Training                         time.Duration
	Keep                             time.Duration
	TraceVisitors                    bool   // the way to their addresses is traced
	PublicHooks                      bool   // webhooks only to public addresses
	Visitors                         bool   // packets of visitors' browsers are taken by UDP at the port of Listen
	Push                             string // where figures are pushed to by OTLP
	PushEvery                        time.Duration
	Owners                           string
	Far                              string
	// Where people may sign in instead, by OpenID Connect; nowhere when Issuer is empty.
	Issuer, IssuerClient, IssuerSecret, IssuerClaim, IssuerTitle string
	LogLevel                                                     string
	LogForm                                                      string
}

// Setting is one line of the table.
type Setting struct {
	Key     string // in the file; the flag's name; and with WOODLARK_ before it, in capitals, the variable
	Default string
	Says    string
	set     func(*Settings, string) error
}

// Variable is the setting's environment variable.
func (s Setting) Variable() string {
	return "WOODLARK_" + strings.ToUpper(strings.ReplaceAll(s.Key, "-", "_"))
}

// Table is all settings.
func Table() []Setting {
	return []Setting{
		{"listen", "127.0.0.1:7373", "address and port to listen on", func(s *Settings, v string) error {
			if _, _, err := net.SplitHostPort(v); err != nil {
				return fmt.Errorf("%q is not like 127.0.0.1:7373", v)
			}
			s.Listen = v
			return nil
		}},
		{"plain-http", "false", "true to speak HTTP in clear beyond loopback, where everybody on the way can read the token", func(s *Settings, v string) (err error) {
			if s.Plain, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		}},
		{"tls-cert", "", "file of the certificate to speak TLS with, and of those above it, as PEM; read again when it changes; without one the service makes its own, beyond loopback", text(func(s *Settings) *string { return &s.Cert })},
		{"tls-key", "", "file of the certificate's key, as PEM", text(func(s *Settings) *string { return &s.CertKey })},
		{"host-names", "", "names by which browsers reach the console, with commas between them, beside addresses and this machine's name", func(s *Settings, v string) error {
			for _, name := range strings.Split(v, ",") {
				if name = strings.ToLower(strings.TrimSpace(name)); name != "" {
					s.HostNames = append(s.HostNames, name)
				}
			}
			return nil
		}},
		{"state", StateFolder(), "folder for the database, the spool and the token", text(func(s *Settings) *string { return &s.State })},
		{"database", "", "database to use, as user:password@tcp(host:3306)/name, with several hosts of a cluster as tcp(a:3306,b:3306,c:3306); a private server when empty", text(func(s *Settings) *string { return &s.Database })},
		{"together", "false", "true to share the database with other services of this setting: one of them works on it, and the others hand their callers on to that one, and take over when it is gone; such a service has no agent of its own", func(s *Settings, v string) (err error) {
			if s.Together, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		}},
		{"reach", "", "where the other services reach this one, such as https://192.0.2.7:7373; the address of listen when empty", func(s *Settings, v string) error {
			if u, err := url.Parse(v); v != "" && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "") {
				return fmt.Errorf("%q is not like https://192.0.2.7:7373", v)
			}
			s.Reach = strings.TrimSuffix(v, "/")
			return nil
		}},
		{"name", "local", "name of the service's own agent", text(func(s *Settings) *string { return &s.Name })},
		{"site", "", "site of the service's own agent", text(func(s *Settings) *string { return &s.Site })},
		{"zone", "Local", "time zone whose hours baselines go by, such as Europe/Oslo", func(s *Settings, v string) (err error) {
			if s.Zone, err = time.LoadLocation(v); err != nil {
				return fmt.Errorf("%q is not a known time zone such as Europe/Oslo", v)
			}
			return nil
		}},
		{"training", "336h", "window that a rolling baseline is learnt from; hours of the week need three weeks (504h) or more", span(24*time.Hour, func(s *Settings) *time.Duration { return &s.Training })},
		{"retention", "2160h", "how long single readings are kept; hourly and daily figures stay", span(24*time.Hour, func(s *Settings) *time.Duration { return &s.Keep })},
		{"holidays", "", "days off beside Saturdays and Sundays, such as 2026-12-25,2026-12-26", text(func(s *Settings) *string { return &s.Holidays })},
		{"tolerance", "", "what of a measure is not worth caring about, such as rtt=2ms,10%; several with ; between", text(func(s *Settings) *string { return &s.Tolerance })},
		{"maintenance", "", "stretches that are measured but neither judged nor learnt from, in local time, such as 2026-12-01T02:00/2026-12-01T04:00; several with commas between", text(func(s *Settings) *string { return &s.Maintenance })},
		{"conversations", "", "programs on this machine of which may be looked whom they talk to, with commas between, or any; none when empty", text(func(s *Settings) *string { return &s.Conversations })},
		{"visitors", "true", "false to take no packets of visitors' browsers; else they arrive by UDP at the port that listen names, as long as somebody measures by a guest link", func(s *Settings, v string) (err error) {
			if s.Visitors, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		}},
		{"trace-visitors", "false", "true to trace the way to the address of whoever measures by a guest link, from this machine", func(s *Settings, v string) (err error) {
			if s.TraceVisitors, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		}},
		{"public-webhooks", "false", "true to post webhooks to public addresses only, never to private, loopback or link-local ones", func(s *Settings, v string) (err error) {
			if s.PublicHooks, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		}},
		{"push-figures", "", "address of a collector that the service's figures are pushed to by OTLP over HTTP, such as http://127.0.0.1:4318/v1/metrics; they are not when empty", func(s *Settings, v string) error {
			if u, err := url.Parse(v); v != "" && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
				return fmt.Errorf("%q is not like http://127.0.0.1:4318/v1/metrics", v)
			}
			s.Push = v
			return nil
		}},
		{"push-every", "60s", "how often figures are pushed", span(time.Second, func(s *Settings) *time.Duration { return &s.PushEvery })},
		{"owners", "", "CSV file of prefixes, who has them, and whose part of the way that is; routes are shown with it", text(func(s *Settings) *string { return &s.Owners })},
		{"far-end", "", "address and port, TCP and UDP, at which the service's own agent answers as the far end of other agents; it does not when empty", func(s *Settings, v string) error {
			if _, err := netip.ParseAddrPort(v); v != "" && err != nil {
				return fmt.Errorf("%q is not like 192.0.2.7:7474", v)
			}
			s.Far = v
			return nil
		}},
		{"oidc-issuer", "", "address of a provider where people may sign in by OpenID Connect, such as https://id.northquay.example; it has to know ADDRESS/sign-in/elsewhere/back as where they come back to", text(func(s *Settings) *string { return &s.Issuer })},
		{"oidc-client", "", "the name that the provider knows this service by", text(func(s *Settings) *string { return &s.IssuerClient })},
		{"oidc-secret", "", "the secret that goes with it; better in the file or the variable than as a flag, which others on this machine see", text(func(s *Settings) *string { return &s.IssuerSecret })},
		{"oidc-claim", "email", "by what somebody is found who signs in there for the first time: email, which it has verified, or preferred_username", oneOf(func(s *Settings) *string { return &s.IssuerClaim }, "email", "preferred_username")},
		{"oidc-title", "", "what people call the provider; its host when empty", text(func(s *Settings) *string { return &s.IssuerTitle })},
		{"log-level", "info", "debug, info, warn or error", oneOf(func(s *Settings) *string { return &s.LogLevel }, "debug", "info", "warn", "error")},
		{"log-form", "text", "text or json", oneOf(func(s *Settings) *string { return &s.LogForm }, "text", "json")},
	}
}

func text(at func(*Settings) *string) func(*Settings, string) error {
	return func(s *Settings, v string) error { *at(s) = v; return nil }
}

func span(least time.Duration, at func(*Settings) *time.Duration) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		d, err := time.ParseDuration(v)
		if err != nil || d < least {
			return fmt.Errorf("%q is not a span of time of at least %v, such as 336h", v, least)
		}
		*at(s) = d
		return nil
	}
}

func oneOf(at func(*Settings) *string, values ...string) func(*Settings, string) error {
	return func(s *Settings, v string) error {
		if !slices.Contains(values, v) {
			return fmt.Errorf("%q is none of %s", v, strings.Join(values, ", "))
		}
		*at(s) = v
		return nil
	}
}

// StateFolder is where the state is kept when nothing else is said.
func StateFolder() string {
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "woodlark")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "woodlark-state"
	}
	return filepath.Join(home, ".local", "state", "woodlark")
}

// Register adds a flag for each setting, and -config. The function that it
// returns reads the settings once the flags are parsed.
func Register(flags *flag.FlagSet) func() (Settings, error) {
	read := RegisterOnly(flags)
	return func() (Settings, error) {
		set, err := read()
		return set, errors.Join(err, set.check())
	}
}

// RegisterOnly adds a flag for some settings, or for all when none is named, and -config. The
// function that it returns reads all settings, as a service would that has no other flags; whether
// they go together is not looked at.
func RegisterOnly(flags *flag.FlagSet, keys ...string) func() (Settings, error) {
	table := Table()
	given := make([]string, len(table))
	for i, s := range table {
		if len(keys) > 0 && !slices.Contains(keys, s.Key) {
			continue
		}
		says := s.Says
		if s.Default != "" {
			says += fmt.Sprintf(" (default %q)", s.Default)
		}
		if s.Default == "false" {
			flags.Var((*switched)(&given[i]), s.Key, says)
			continue
		}
		flags.StringVar(&given[i], s.Key, "", says)
	}
	config := flags.String("config", "", "YAML file with settings of the same names")
	return func() (Settings, error) {
		set := map[string]bool{}
		flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
		file := *config
		if file == "" {
			file = os.Getenv("WOODLARK_CONFIG")
		}
		fromFile, err := readFile(file, table)
		if err != nil {
			return Settings{}, err
		}
		var out Settings
		var errs []error
		for i, s := range table {
			value, where := s.Default, "default of "+s.Key
			if v, ok := fromFile[s.Key]; ok {
				value, where = v.text, fmt.Sprintf("%s, line %d: %s", file, v.line, s.Key)
			}
			if v, ok := os.LookupEnv(s.Variable()); ok {
				value, where = v, s.Variable()
			}
			if set[s.Key] {
				value, where = given[i], "-"+s.Key
			}
			if err := s.set(&out, value); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", where, err))
			}
		}
		return out, errors.Join(errs...)
	}
}

// check says what of the settings does not go together.
func (s Settings) check() error {
	if (s.Cert == "") != (s.CertKey == "") {
		return errors.New("tls-cert and tls-key go together: a certificate needs its key")
	}
	if s.Plain && s.Cert != "" {
		return errors.New("plain-http and tls-cert do not go together: HTTP is in clear, or it is not")
	}
	if !s.Together {
		if s.Reach != "" {
			return errors.New("reach is for services that share a database: it goes with together")
		}
		return nil
	}
	for key, given := range map[string]bool{"far-end": s.Far != "", "conversations": s.Conversations != "", "trace-visitors": s.TraceVisitors} {
		if given {
			return fmt.Errorf("%s is of the service's own agent, and one that shares its database has none (together): run 'woodlark agent' beside it", key)
		}
	}
	host, _, _ := net.SplitHostPort(s.Listen)
	switch ip, err := netip.ParseAddr(host); {
	case s.Database == "":
		return errors.New("together is for a database that services share: name it with database")
	case s.Reach == "" && (host == "" || err == nil && ip.IsUnspecified()):
		return fmt.Errorf("listen is %s, which is no address at which the others reach this service: say it with reach, such as https://192.0.2.7:7373", s.Listen)
	}
	return nil
}

// switched is a setting that is on when its flag is given without more.
type switched string

func (x *switched) Set(v string) error { *x = switched(v); return nil }
func (x *switched) String() string     { return string(*x) }
func (x *switched) IsBoolFlag() bool   { return true }

type fileValue struct {
	text string
	line int
}

// readFile reads the settings of a file, if one is named.
func readFile(name string, table []Setting) (map[string]fileValue, error) {
	values := map[string]fileValue{}
	if name == "" {
		return values, nil
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no settings file %s", name)
	}
	if err != nil {
		return nil, fmt.Errorf("read the settings: %w", err)
	}
	if err := yamlfile.Decode(data, &map[string]any{}); err != nil {
		return nil, fmt.Errorf("settings file %s is %w", name, err)
	}
	tree, err := yamlfile.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("settings file %s is %w", name, err)
	}
	var errs []error
	for _, pair := range tree.Pairs() {
		if !slices.ContainsFunc(table, func(s Setting) bool { return s.Key == pair.Key }) {
			errs = append(errs, fmt.Errorf("%s, line %d: there is no setting %q; 'woodlark help serve' lists them", name, pair.Line, pair.Key))
			continue
		}
		values[pair.Key] = fileValue{strings.Trim(pair.Value, `"' `), pair.Line}
	}
	return values, errors.Join(errs...)
}
