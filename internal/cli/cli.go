// Package cli is the command line: one file a command, over the flag package.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/term"

	"woodlark.example/internal/client"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/network"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/settings"
)

// The exit statuses.
const (
	exitGood       = 0 // measured and good
	exitNotGood    = 1 // measured and not good
	exitWrongCall  = 2
	exitUnmeasured = 3 // it could not be measured
)

// command is one sub-command.
type command struct {
	name    string
	summary string
	usage   string // after the name
	example string
	more    string // shown by help, after the options
	// run registers its flags, calls parse, and does the work.
	run func(*call) error
}

func commands() []command {
	list := []command{serveCommand, agentCommand, agentsCommand, demoCommand, hereCommand}
	list = append(list, measuringCommands()...)
	return append(list, respondCommand, watchCommand, maintenanceCommand, notifyCommand, runsCommand, resultsCommand, conversationsCommand, objectiveCommand, baselineCommand, degradedCommand, compareCommand, reportCommand, annotateCommand, dossierCommand, guestCommand, boardCommand, sitesCommand, ownersCommand, exportCommand, importCommand, backupCommand, restoreCommand, peopleCommand, tokensCommand, auditCommand, servicesCommand, labCommand)
}

// call is one call of a command.
type call struct {
	command
	ctx     context.Context
	args    []string
	in      io.Reader
	out     io.Writer
	err     io.Writer
	flags   *flag.FlagSet
	ink     document.Ink
	format  string
	formed  bool     // the command takes -format
	formats []string // that it takes beside text, json and csv
	again   []string // options that may be given again

	service string
}

// exit is an error that ends the program with a status.
type exit struct {
	status int
	err    error
}

func (e exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e exit) Unwrap() error { return e.err }

// wrongCall is an error about how a command was called.
func wrongCall(format string, args ...any) error {
	return exit{exitWrongCall, fmt.Errorf(format, args...)}
}

// Main runs a command line and returns its exit status. A result that could not be written
// was not measured for anybody.
func Main(args []string, in io.Reader, to, errs io.Writer) int {
	out := &written{to: to}
	status := run(args, in, out, errs)
	if err := out.failed(); err != nil && status < exitUnmeasured {
		fmt.Fprintf(errs, "woodlark: the result could not be written: %v\n", err)
		return exitUnmeasured
	}
	return status
}

// written remembers whether all could be written.
type written struct {
	to  io.Writer
	mu  sync.Mutex
	err error
}

func (w *written) Write(b []byte) (int, error) {
	n, err := w.to.Write(b)
	if err != nil {
		w.mu.Lock()
		if w.err == nil {
			w.err = err
		}
		w.mu.Unlock()
	}
	return n, err
}

func (w *written) failed() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// fileOf is the file that is written to, if it is one.
func fileOf(w io.Writer) (*os.File, bool) {
	if x, is := w.(*written); is {
		w = x.to
	}
	f, is := w.(*os.File)
	return f, is
}

func run(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if len(args) == 0 {
		overview(errs)
		return exitWrongCall
	}
	name := args[0]
	switch name {
	case "help", "-help", "--help":
		return help(args[1:], out, errs)
	case "version", "-version", "--version":
		version(out)
		return exitGood
	}
	all := allCommands()
	i := slices.IndexFunc(all, func(c command) bool { return c.name == name })
	if i < 0 {
		fmt.Fprintf(errs, "woodlark: there is no command %q; 'woodlark help' lists them\n", short(name))
		return exitWrongCall
	}
	c := newCall(all[i], ctx, args[1:], in, out, errs)
	return c.finish(c.run(c))
}

func newCall(cmd command, ctx context.Context, args []string, in io.Reader, out, errs io.Writer) *call {
	c := &call{command: cmd, ctx: ctx, args: args, in: in, out: out, err: errs, ink: document.NewInk(isTerminal(out) && os.Getenv("NO_COLOR") == "")}
	c.flags = flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	c.flags.SetOutput(io.Discard)
	return c
}

func isTerminal(w io.Writer) bool {
	f, ok := fileOf(w)
	return ok && term.IsTerminal(int(f.Fd()))
}

// finish says what went wrong and turns it into a status.
func (c *call) finish(err error) int {
	if err == nil {
		return exitGood
	}
	if errors.Is(err, flag.ErrHelp) {
		c.help(c.out)
		return exitGood
	}
	status := exitUnmeasured
	var e exit
	var p *client.Problem
	switch {
	case errors.As(err, &e):
		status = e.status
	case errors.As(err, &p) && p.Status >= 400 && p.Status < 500 && p.Status != 401:
		status = exitWrongCall
	case errors.Is(err, network.ErrNoName):
		status = exitUnmeasured
	}
	if text := err.Error(); text != "" {
		fmt.Fprintf(c.err, "woodlark %s: %s\n", c.name, text)
	}
	if text := err.Error(); status == exitWrongCall && text != "" {
		how := "help " + c.name
		if strings.Contains(c.name, " ") {
			how = c.name + " -help"
		}
		fmt.Fprintf(c.err, "'woodlark %s' shows how to call it.\n", how)
	}
	return status
}

// parse parses the flags. Options may stand before and after the arguments.
func (c *call) parse() error {
	defer eachOnce(c.flags, c.again...)()
	var rest []string
	args := c.args
	for {
		if err := c.flags.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return err
			}
			return exit{exitWrongCall, plainFlag(err)}
		}
		if c.flags.NArg() == 0 {
			break
		}
		// After "--" everything is an argument.
		if parsed := len(args) - c.flags.NArg(); parsed > 0 && args[parsed-1] == "--" {
			rest = append(rest, c.flags.Args()...)
			break
		}
		rest = append(rest, c.flags.Arg(0))
		args = c.flags.Args()[1:]
	}
	c.args = rest
	formats := append([]string{"text", "json", "csv"}, c.formats...)
	if c.formed && !slices.Contains(formats, c.format) {
		return wrongCall("-format %q is none of %s", short(c.format), strings.Join(formats, ", "))
	}
	return nil
}

// isSet reports whether an option was given.
func (c *call) isSet(name string) (is bool) {
	c.flags.Visit(func(f *flag.Flag) { is = is || f.Name == name })
	return is
}

var wrongValue = regexp.MustCompile(`^invalid (?:boolean )?value ("(?:[^"\\\\]|\\\\.)*") for (?:flag )?-(\S+): (?s:(.*))$`)

// plainFlag says what is wrong with the value of an option as all other errors do.
func plainFlag(err error) error {
	found := wrongValue.FindStringSubmatch(err.Error())
	value := ""
	if found != nil {
		value, _ = strconv.Unquote(found[1])
	}
	switch {
	case found == nil:
		return err
	case strings.HasPrefix(found[3], `"`), value != "" && strings.HasPrefix(found[3], value):
		return fmt.Errorf("-%s %s", found[2], found[3])
	case found[3] == "parse error":
		return fmt.Errorf("-%s %s cannot be read", found[2], found[1])
	}
	return fmt.Errorf("-%s: %s", found[2], found[3])
}

func short(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

func (c *call) withFormat() {
	c.formed = true
	c.flags.StringVar(&c.format, "format", "text", "text, json or csv")
}

func (c *call) withService() {
	c.flags.StringVar(&c.service, "service", "", "address of the service; the one on this machine when left out")
}

// client returns a client of the service: the one that is named, or the one
// that runs on this machine.
func (c *call) client() (*client.Client, error) {
	base, token, cert := c.service, os.Getenv("WOODLARK_TOKEN"), ""
	if base == "" {
		base = os.Getenv("WOODLARK_SERVICE")
	}
	if base != "" {
		if u, err := url.Parse(base); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, wrongCall("-service %q is not an address such as http://127.0.0.1:7373", short(base))
		}
	}
	for _, folder := range stateFolders() {
		note, err := readNote(folder)
		if err != nil || base != "" && note.URL != strings.TrimSuffix(base, "/") {
			continue
		}
		base, cert = note.URL, note.Cert
		if token == "" {
			token = note.token
		}
		break
	}
	if base == "" {
		if _, err := os.ReadDir(packagedState); errors.Is(err, fs.ErrPermission) {
			return nil, exit{exitUnmeasured, fmt.Errorf("the service of this machine keeps its token in %s, which you may not read: put one of your own ('woodlark tokens add') into WOODLARK_TOKEN, and the service's address into WOODLARK_SERVICE; or call as root", packagedState)}
		}
		return nil, exit{exitUnmeasured, fmt.Errorf("no service is running on this machine: start one with 'woodlark serve' or 'woodlark demo', or name one with -service")}
	}
	if token == "" {
		return nil, exit{exitUnmeasured, fmt.Errorf("the token of %s is not known here: put it into WOODLARK_TOKEN; it is in the file 'token' of the service's state folder", base)}
	}
	api := client.New(base, token)
	if pin := os.Getenv("WOODLARK_TRUST"); pin != "" {
		if err := keys.CheckPin(pin); err != nil {
			return nil, wrongCall("WOODLARK_TRUST: %v", err)
		}
		api.Pin(pin)
	} else if cert != "" {
		api.Trust(cert)
	}
	return api, nil
}

// packagedState is where the service of a package keeps its state.
const packagedState = "/var/lib/woodlark"

// stateFolders are where a service of this machine may keep its state.
func stateFolders() []string {
	own := os.Getenv("WOODLARK_STATE")
	base := settings.StateFolder()
	folders := []string{base, filepath.Join(base, "demo"), packagedState}
	if own != "" {
		folders = append([]string{own}, folders...)
	}
	return folders
}

// zone is the reader's time zone.
func zone() *time.Location { return time.Local }
