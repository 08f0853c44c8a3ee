package cli

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/agent"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/whole"
)

var agentCommand = command{
	name: "agent", summary: "a measurement agent that joins a service, and answers as the far end of others",
	usage: "-join URL -invite CODE [options]\n  woodlark agent [options]              (once it has joined)",
	example: "woodlark agent -join https://woodlark.northquay.example -invite CODE -listen :7474\n" +
		"woodlark agent -allow 192.0.2.0/24,203.0.113.0/24 -load-hours 22:00-06:00",
	more: "The agent calls out only: it fetches its plan, holds one connection over which it is told\n" +
		"what to do now, and uploads what it measured. While the service is away it goes on by the\n" +
		"plan that it has, and keeps what it measures in its -state folder. Its key is kept there,\n" +
		"too. What -allow, -rate-most and -load-hours set the service cannot exceed.",
	run: runAgent,
}

// agentFile is who an agent is, in its state folder.
type agentFile struct {
	Service string   `json:"service"`
	ID      ident.ID `json:"id"`
	Name    string   `json:"name"`
	Site    string   `json:"site"`
	Key     string   `json:"key,omitempty"`    // that one shows who does not sign
	Former  string   `json:"former,omitempty"` // that it showed before it signed
	Seed    []byte   `json:"seed,omitempty"`   // of the Ed25519 key by which it signs
	Trust   string   `json:"trust,omitempty"`  // the one key that the service may show
	Invite  string   `json:"invite,omitempty"` // a mark of the one that it joined by
}

// inviteMark tells invites apart, and does not give one away.
func inviteMark(code string) string { return hex.EncodeToString(keys.Mark(code)[:8]) }

type agentOptions struct {
	join, invite, ca, state, name, site, labels, listen, advertise, allow, rate, hours string
	talks                                                                              string
	spool                                                                              int64
	extra                                                                              int
	limits                                                                             []string
	pool                                                                               *x509.CertPool
	trust                                                                              string
	allowed                                                                            []netip.Prefix
}

func runAgent(c *call) error {
	var o agentOptions
	f := c.flags
	f.StringVar(&o.join, "join", "", "address of the service, such as https://woodlark.northquay.example; several with commas between where services share a database")
	f.StringVar(&o.invite, "invite", "", "code of an invite ('woodlark agents invite' at the service); works once")
	f.StringVar(&o.trust, "trust", "", "the one key that the service may show, as its invite has it: sha256: and 64 hexadecimal digits; it is kept")
	f.StringVar(&o.ca, "ca", "", "file of certificates (PEM) of the authorities that the service's may come from; those of this machine, or usual ones, when left out")
	f.StringVar(&o.state, "state", filepath.Join(stateFolders()[0], "agent"), "folder for the key, the plan and what waits to be uploaded")
	f.StringVar(&o.name, "name", "", "name of the agent; this machine's when left out")
	f.StringVar(&o.site, "site", "", "site of the agent")
	f.StringVar(&o.labels, "labels", "", "words to find it by, with commas between them")
	f.StringVar(&o.listen, "listen", "", "address and port, TCP and UDP, to answer at as the far end of other agents; :PORT for all addresses")
	f.StringVar(&o.advertise, "advertise", "", "address and port by which others reach that, when it is another (behind NAT)")
	f.StringVar(&o.allow, "allow", "", "prefixes that may be sent to, with commas between them; all when left out")
	f.StringVar(&o.rate, "rate-most", "", "bits a second of payload that may be sent, of all measurements together; TCP bandwidth tests are refused then")
	f.IntVar(&o.extra, "suspicion-most", agent.UsualExtra, "packets an hour that may be sent because something looks wrong; 0 for none")
	f.StringVar(&o.talks, "conversations", "", "programs of which may be looked whom they talk to, with commas between them, or any; none when left out")
	f.StringVar(&o.hours, "load-hours", "", "hours in which bandwidth tests are allowed, such as 22:00-06:00")
	f.Int64Var(&o.spool, "spool-most", 1<<30, "bytes that may wait to be uploaded; beyond them the oldest go")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("there is nothing to do with %q", short(c.args[0]))
	}
	options, err := o.read()
	if err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(c.err, nil))
	lock, err := lockAgent(o.state)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	defer lock.Close()
	me, err := c.agentIdentity(o)
	if err != nil {
		return err
	}
	return c.serveAgent(o, options, me, log)
}

// read reads what the owner allows.
func (o *agentOptions) read() (options agent.Options, err error) {
	if o.listen != "" {
		if options.Listen, err = listenAt(o.listen); err != nil {
			return options, err
		}
		if options.Listen.Addr().IsUnspecified() && o.advertise == "" {
			return options, wrongCall("-listen %s is at all addresses: say with -advertise ADDRESS:PORT by which one others reach it", o.listen)
		}
	}
	options.Advertise = o.advertise
	if o.trust != "" {
		if err := keys.CheckPin(o.trust); err != nil {
			return options, wrongCall("-trust: %v", err)
		}
		if o.ca != "" {
			return options, wrongCall("-trust and -ca do not go together: one key, or whoever vouches for it")
		}
	}
	if o.ca != "" {
		data, err := os.ReadFile(o.ca)
		if err != nil {
			return options, wrongCall("-ca: %v", err)
		}
		o.pool = x509.NewCertPool()
		if !o.pool.AppendCertsFromPEM(data) {
			return options, wrongCall("-ca: %s holds no certificate in PEM form", o.ca)
		}
	}
	if o.allow != "" {
		for _, text := range strings.Split(o.allow, ",") {
			p, err := netip.ParsePrefix(strings.TrimSpace(text))
			if err != nil {
				return options, wrongCall("-allow: %q is not a prefix such as 192.0.2.0/24", short(text))
			}
			o.allowed = append(o.allowed, p.Masked())
		}
		o.limits = append(o.limits, "sends to "+o.allow+" only")
	}
	if o.rate != "" {
		if options.MostRate, err = capacity.ParseRate(o.rate); err != nil {
			return options, wrongCall("-rate-most: %v", err)
		}
		o.limits = append(o.limits, "sends "+options.MostRate.String()+" at most")
	}
	if o.hours != "" {
		if options.LoadHours, err = agent.ParseLoadHours(o.hours); err != nil {
			return options, wrongCall("-load-hours: %v", err)
		}
		o.limits = append(o.limits, "bandwidth tests at "+options.LoadHours.String())
	}
	if options.Conversations = list(o.talks); len(options.Conversations) > 0 {
		o.limits = append(o.limits, "conversations of "+o.talks)
	}
	options.Talks = &host.Talks{}
	if o.spool < 0 {
		return options, wrongCall("-spool-most %d is below zero", o.spool)
	}
	options.Most, options.Limits = o.spool, strings.Join(o.limits, "; ")
	return options, nil
}

// lockAgent makes the folder, for this user alone, and keeps a second agent out.
func lockAgent(folder string) (*os.File, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("make the agent's folder: %w", err)
	}
	return lockState(folder)
}

// agentIdentity is who the agent is: as kept, or as it joins now.
func (c *call) agentIdentity(o agentOptions) (me agentFile, err error) {
	name := filepath.Join(o.state, "agent.json")
	data, err := os.ReadFile(name)
	switch {
	case err == nil:
		if err := json.Unmarshal(data, &me); err != nil || me.Key == "" && len(me.Seed) != ed25519.SeedSize {
			return me, exit{exitUnmeasured, fmt.Errorf("%s is damaged; remove it and join anew", name)}
		}
		if o.join != "" {
			me.Service = o.join
		}
		if o.trust != "" && o.trust != me.Trust {
			me.Trust = o.trust
			if err := me.keep(name); err != nil {
				return me, err
			}
		}
		// A unit or a container begins again with the invite that it joined by.
		if o.invite != "" && me.Invite != inviteMark(o.invite) {
			return me, wrongCall("this agent has joined already, by another invite, as %s tells; to join anew remove that file, or choose another -state", name)
		}
		return me, nil
	case !errors.Is(err, fs.ErrNotExist):
		return me, exit{exitUnmeasured, fmt.Errorf("read who this agent is: %w", err)}
	case o.join == "" || o.invite == "":
		return me, wrongCall("this agent has not joined a service: give -join URL and -invite CODE")
	}
	if o.name == "" {
		if o.name, err = os.Hostname(); err != nil {
			return me, wrongCall("this machine has no name: give the agent one with -name")
		}
	}
	// The folder takes its key before the invite is spent: what is ended before it hears the answer joins
	// by the same key the next time, and is who it was.
	me = agentFile{Service: o.join, Trust: o.trust, Invite: inviteMark(o.invite), Seed: begunToJoin(name+joining, o.invite)}
	if err := me.keep(name + joining); err != nil {
		return me, err
	}
	answer, err := remote.Join(c.ctx, o.join, o.invite, remote.JoinRequest{Name: o.name, Site: o.site, Labels: o.labels, Version: Version, PublicKey: me.public()}, o.pool, o.trust)
	if err != nil {
		return me, exit{exitUnmeasured, err}
	}
	me.ID, me.Name, me.Site, me.Key = answer.ID, answer.Name, answer.Site, answer.Key // a key of a service that knows no signatures
	if err := me.keep(name); err != nil {
		return me, err
	}
	_ = os.Remove(name + joining)
	fmt.Fprintf(c.out, "Joined %s as %q. The key is in %s.\n", me.Service, me.Name, name)
	return me, nil
}

// joining ends the name of the file of an agent that asks to join.
const joining = ".joining"

// begunToJoin is the key of an agent that asked to join by the same invite before; a new one when
// there is none.
func begunToJoin(name, invite string) []byte {
	var before agentFile
	data, err := os.ReadFile(name)
	if err == nil && json.Unmarshal(data, &before) == nil && before.Invite == inviteMark(invite) && len(before.Seed) == ed25519.SeedSize {
		return before.Seed
	}
	return newSeed()
}

// keep writes down who an agent is.
func (a agentFile) keep(name string) error {
	b, _ := json.MarshalIndent(a, "", "  ")
	if err := whole.Write(name, b); err != nil {
		return exit{exitUnmeasured, fmt.Errorf("keep the agent's key: %w", err)}
	}
	return nil
}

func newSeed() []byte {
	seed := make([]byte, ed25519.SeedSize)
	_, _ = rand.Read(seed)
	return seed
}

func (a agentFile) private() ed25519.PrivateKey { return ed25519.NewKeyFromSeed(a.Seed) }
func (a agentFile) public() []byte              { return a.private().Public().(ed25519.PublicKey) }

// agentLink is how an agent calls its service. One that joined by a key that it shows signs from now on,
// as soon as its service knows how: it tries at each start.
func (c *call) agentLink(o agentOptions, me *agentFile, log *slog.Logger) (*remote.Link, error) {
	showing := func() *remote.Link {
		return &remote.Link{Base: me.Service, ID: me.ID, Key: me.Key, Log: log, Trust: o.pool, Pin: me.Trust}
	}
	if me.Key == "" {
		link := showing()
		link.Signs, link.Former = me.private(), me.Former
		return link, nil
	}
	name := filepath.Join(o.state, "agent.json")
	if len(me.Seed) != ed25519.SeedSize {
		me.Seed = newSeed()
		if err := me.keep(name); err != nil { // before the service goes by it
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(c.ctx, 10*time.Second)
	defer cancel()
	err := showing().SignFromNow(ctx, me.public())
	if errors.Is(err, remote.ErrLockedOut) {
		// That was so before, and this program was ended before it could note it: or the service
		// knows neither. Either way the key is good no more.
		err = nil
	}
	if err != nil {
		log.Warn("this agent shows its key, for its service does not take signatures now; it asks again at its next start", "error", err)
		return showing(), nil
	}
	me.Key, me.Former = "", me.Key
	link := showing()
	link.Signs, link.Former = me.private(), me.Former
	return link, me.keep(name)
}

// serveAgent measures until the call ends, or the service locks the agent out.
func (c *call) serveAgent(o agentOptions, options agent.Options, me agentFile, log *slog.Logger) error {
	link, err := c.agentLink(o, &me, log)
	if err != nil {
		return err
	}
	options.ID, options.Name, options.Service, options.Log, options.Dir = me.ID, me.Name, link, log, o.state
	if options.MostExtra = o.extra; o.extra == 0 {
		options.MostExtra = -1
	}
	if o.extra < 0 {
		return wrongCall("-suspicion-most %d is below zero", o.extra)
	}
	options.Network, options.Ground = agent.Guarded(kernel.Host(), o.allowed, options.MostRate), host.Ground{}
	options.End = func() session.End { return session.Here(me.Name, Version) }
	a, err := agent.New(options)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	link.Health = a.Health
	ctx, cancel := context.WithCancel(c.ctx)
	defer cancel()
	var measuring sync.WaitGroup
	measuring.Go(func() { _ = a.Run(ctx) })
	says := "no far end"
	if at := a.FarEnd(); at != "" {
		says = "far end at " + at
	}
	log.Info("ready", "agent", me.Name, "service", me.Service, "as", says)
	err = link.Run(ctx, a)
	cancel()
	measuring.Wait()
	if err != nil {
		return exit{exitUnmeasured, fmt.Errorf("%w: it was removed there; to join again remove %s", err, filepath.Join(o.state, "agent.json"))}
	}
	return nil
}
