package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"woodlark.example/internal/lab"
	"woodlark.example/internal/network/world"
)

var labRunCommand = command{
	name: "lab run", summary: "run a program at a host, or over a link described in one line",
	usage:   "-at HOST [options] -- PROGRAM …\n-link 'RATE, DELAY ±VARIATION, LOSS' [options] -- PROGRAM …\n-like 'FROM → TO' [-at TIME] [-for DURATION] [options] -- PROGRAM …",
	example: "woodlark lab run -at ops.northquay.example -- woodlark ping terminal.holm.example\nwoodlark lab run -link '6Mbit/s, 40ms ±5ms, 0.5%' -far 'python3 -m http.server 80' -- curl -O http://far.example/\nwoodlark lab run -like 'northquay → terminal.holm.example' -at 'yesterday 16:00' -- woodlark ping terminal.holm.example",
	more: "With -link the program runs at near.example, and all that it sends to far.example\ncrosses the link: rate, delay one way and loss hold in each direction, unless -back\ndescribes the other. " +
		"Further properties go by name: 'queue 200ms', 'mtu 1400',\n'load 60%', 'reorders 1% 5ms', 'duplicates 1%', 'policer 5Mbit/s 64kB'.\nWith -like it runs where all is as it was on a path then, at the near end of it.\nThe exit status is the program's.",
	run: runLabRun,
}

type labRun struct {
	at, name, link, back, far string
	like                      like
}

func runLabRun(c *call) error {
	var o labRun
	c.withService()
	c.flags.StringVar(&o.at, "at", "", "host of a lab that is up; with -like: when, a TIME as in 'woodlark help degraded'")
	c.withLabName(&o.name)
	c.flags.StringVar(&o.link, "link", "", "one link, no lab: 'RATE, DELAY ±VARIATION, LOSS'")
	c.flags.StringVar(&o.back, "back", "", "with -link: the way back, when it is another")
	c.flags.StringVar(&o.like.path, "like", "", "no lab: as a path was, 'FROM → TO'; see 'woodlark help lab from'")
	c.flags.DurationVar(&o.like.span, "for", 30*time.Minute, "with -like: how long a span was measured")
	c.flags.StringVar(&o.far, "far", "", "with -link or -like: a command line to run at the far end meanwhile")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case len(c.args) == 0:
		return wrongCall("say what to run, behind --")
	case o.like.path != "" && (o.link != "" || o.back != "" || o.name != ""):
		return wrongCall("-like goes with neither -link, -back nor -name: its network is made anew")
	case o.like.path != "":
		return c.runLike(o)
	case len(c.given("for", "service")) > 0:
		return wrongCall("-for and -service belong to -like")
	case (o.at == "") == (o.link == ""):
		return wrongCall("say where to run it: -at HOST of a lab that is up, -link 'RATE, DELAY, LOSS', or -like 'FROM → TO'")
	case o.link == "" && (o.back != "" || o.far != ""):
		return wrongCall("-back and -far belong to -link")
	case o.link != "":
		return c.runOverLink(o)
	}
	if o.name == "" {
		o.name = os.Getenv("WOODLARK_LAB")
	}
	r, err := aliveLab(o.name)
	if err != nil {
		return err
	}
	h, err := r.Host(o.at)
	if err != nil {
		return exit{exitWrongCall, err}
	}
	if !outside(r) {
		return become(r, h, c.args)
	}
	args, err := throughUser(r, h.Name, c.args)
	if err != nil {
		return err
	}
	return exit{exitUnmeasured, syscall.Exec(args[0], args, labEnvironment(r))}
}

// outside reports whether the lab is in another user namespace than we are.
func outside(r lab.Record) bool {
	return r.Unprivileged && namespaceOf("self") != namespaceOf(strconv.Itoa(r.Process))
}

// runOverLink makes a lab of one link for as long as a program runs.
func (c *call) runOverLink(o labRun) error {
	text, err := lab.QuickWorld(o.link, o.back)
	if err != nil {
		return exit{exitWrongCall, err}
	}
	m, err := world.Read([]byte(text), world.Options{})
	if err != nil {
		return exit{exitWrongCall, fmt.Errorf("-link: %w", err)}
	}
	for _, d := range m.Directions() {
		fmt.Fprintf(c.err, "%s → %s: %s\n", m.Nodes()[d.From].Name, m.Nodes()[d.To].Name, d.Describe())
	}
	return c.runIn(text, "link-"+strconv.Itoa(os.Getpid()), lab.Near, lab.Far, o)
}

// runLike runs a program at the near end of a network that behaves as a path did.
func (c *call) runLike(o labRun) error {
	l := o.like
	l.at = o.at
	m, err := c.likeness(l)
	if err != nil {
		return err
	}
	for _, line := range strings.Split(m.World, "\n") {
		if !strings.HasPrefix(line, "#") {
			break
		}
		fmt.Fprintln(c.err, strings.TrimPrefix(strings.TrimPrefix(line, "#"), " "))
	}
	return c.runIn(m.World, "like-"+strconv.Itoa(os.Getpid()), m.From, m.To, o)
}

// runIn makes a lab of a world for as long as a program runs at one of its hosts.
func (c *call) runIn(text, name, near, far string, o labRun) error {
	folder, err := os.MkdirTemp("", "woodlark-link-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	file := filepath.Join(folder, "world.yaml")
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return err
	}
	held, tie, err := os.Pipe()
	if err != nil {
		return err
	}
	defer tie.Close()
	carrier, err := startCarrier(file, name, held)
	held.Close()
	if err != nil {
		return err
	}
	defer func() {
		if r, err := lab.Find(labFolder(), name); err == nil {
			_, _ = r.Down()
		}
		tie.Close()
		_ = carrier.Wait()
	}()
	r, err := aliveLab(name)
	if err != nil {
		return err
	}
	return c.runBothEnds(r, near, far, o)
}

// runBothEnds runs the program at the near end, and what is asked for at the
// far end as long as it does.
func (c *call) runBothEnds(r lab.Record, nearby, faraway string, o labRun) error {
	// A terminal's Ctrl-C reaches the programs by itself; what is left to do is
	// to take the lab down when they have ended.
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(signals)
	if o.far != "" {
		far, err := c.programAt(r, faraway, []string{"/bin/sh", "-c", o.far})
		if err != nil {
			return err
		}
		far.Stdin = nil
		if err := startAt(r, faraway, far); err != nil {
			return err
		}
		defer func() {
			_ = far.Process.Signal(syscall.SIGTERM)
			_ = far.Wait()
		}()
	}
	near, err := c.programAt(r, nearby, c.args)
	if err != nil {
		return err
	}
	if err := startAt(r, nearby, near); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- near.Wait() }()
	for {
		select {
		case s := <-signals:
			if s != os.Interrupt {
				_ = near.Process.Signal(s)
			}
		case err := <-done:
			return programStatus(err)
		}
	}
}

func (c *call) programAt(r lab.Record, host string, program []string) (*exec.Cmd, error) {
	if _, err := exec.LookPath(program[0]); err != nil && !errors.Is(err, exec.ErrDot) {
		return nil, exit{exitWrongCall, fmt.Errorf("there is no program %q here", short(program[0]))}
	}
	if outside(r) {
		var err error
		if program, err = throughUser(r, host, program); err != nil {
			return nil, err
		}
	}
	cmd := exec.CommandContext(context.Background(), program[0], program[1:]...)
	if errors.Is(cmd.Err, exec.ErrDot) {
		cmd.Err = nil // a PATH with relative folders is the user's choice
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.Env = c.in, c.out, c.err, labEnvironment(r)
	cmd.WaitDelay = time.Second
	return cmd, nil
}

func startAt(r lab.Record, host string, cmd *exec.Cmd) error {
	if outside(r) {
		return cmd.Start()
	}
	h, err := r.Host(host)
	if err != nil {
		return err
	}
	return r.Door(h).Start(cmd)
}

// programStatus ends with the status of a program that ran.
func programStatus(err error) error {
	var e *exec.ExitError
	if errors.As(err, &e) {
		if status, ok := e.Sys().(syscall.WaitStatus); ok && status.Signaled() {
			return exit{status: 128 + int(status.Signal())}
		}
		return exit{status: e.ExitCode()}
	}
	return err
}

// untilClosed is a context that ends when the other end of a pipe is closed.
func untilClosed(ctx context.Context, descriptor int) (context.Context, func()) {
	_ = syscall.SetNonblock(descriptor, true) // so that closing it ends a read
	tie := os.NewFile(uintptr(descriptor), "tie")
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _ = io.Copy(io.Discard, tie)
		cancel()
	}()
	return ctx, func() {
		tie.Close()
		<-ended
	}
}
