package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"woodlark.example/internal/lab"
	"woodlark.example/internal/network/world"
)

var labUpCommand = command{
	name: "lab up", summary: "make a network namespace for each host of a world",
	usage: "-world FILE [options]", example: "woodlark lab up -world demo/skerry.yaml -name skerry",
	run: runLabUp,
	more: "It stays up until 'woodlark lab down'. It needs root, or the right to make user\nnamespaces and TUN interfaces; without either it says so and ends with status 3.\n" +
		"Its addresses exist in its namespaces alone: nothing leaves this machine.",
}

func runLabUp(c *call) error {
	var file, name string
	c.flags.StringVar(&file, "world", "", "file of the network")
	c.flags.StringVar(&name, "name", "", "of the lab; made from the file's when left out")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case len(c.args) > 0:
		return wrongCall("%q is one argument too many", short(c.args[0]))
	case file == "":
		return wrongCall("name the network with -world FILE")
	}
	if name == "" {
		name = labName(file)
	}
	if err := lab.CheckName(name); err != nil {
		return exit{exitWrongCall, err}
	}
	m, err := readWorld(file, time.Time{})
	if err != nil {
		return err
	}
	full, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	if _, err := startCarrier(full, name, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "Lab %s is up: %d hosts of %s.\n", c.strong(name), len(m.Hosts()), m.Name)
	first := m.Hosts()[0]
	fmt.Fprintf(c.out, "  woodlark lab run -at %s -- PROGRAM …\n  woodlark lab show\n  woodlark lab down\n", first.Name)
	for _, w := range labWarnings(m) {
		fmt.Fprintf(c.err, "Note: %s\n", w)
	}
	return nil
}

// labWarnings are what of a world a lab cannot show.
func labWarnings(m *world.Model) []string {
	var clocks []string
	for i, n := range m.Nodes() {
		if !n.Router && !m.Clock(i, m.Reference).Equal(m.Reference) {
			clocks = append(clocks, n.Name)
		}
	}
	if len(clocks) == 0 {
		return nil
	}
	return []string{"in a lab all hosts have this machine's clock; the wrong ones of " + joined(clocks) + " exist only for measurements with -world"}
}

// report is what a carrier tells the command that started it.
type carrierReport struct {
	Error  string
	Status int
}

const unprivilegedMark = "WOODLARK_LAB_UNPRIVILEGED"

// startCarrier starts the process that carries a lab's packets. It lives until
// the lab is taken down or, when tie is given, until that is closed.
func startCarrier(file, name string, tie *os.File) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	told, tell, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer told.Close()
	cmd := exec.Command(self, "lab", "carry", "-world", file, "-name", name)
	cmd.ExtraFiles = []*os.File{tell}
	if tie != nil {
		cmd.ExtraFiles = append(cmd.ExtraFiles, tie)
		cmd.Args = append(cmd.Args, "-tied")
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Dir = "/"
	// Where the labs are recorded must not change with the user namespace.
	cmd.Env = append(os.Environ(), "WOODLARK_STATE="+stateFolders()[0])
	if os.Geteuid() != 0 {
		cmd.Env = append(cmd.Env, unprivilegedMark+"=1")
		cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWUSER
		cmd.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	err = cmd.Start()
	tell.Close()
	if err != nil {
		return nil, exit{exitUnmeasured, fmt.Errorf("a lab needs root, or the right to make user namespaces, which this machine does not give: %w", err)}
	}
	var r carrierReport
	if err := json.NewDecoder(told).Decode(&r); err != nil {
		_ = cmd.Wait()
		return nil, exit{exitUnmeasured, errors.New("the lab ended before it was up")}
	}
	if r.Error != "" {
		_ = cmd.Wait()
		return nil, exit{r.Status, errors.New(r.Error)}
	}
	return cmd, nil
}

// labCarryCommand is the process behind a lab. It is started by the others.
var labCarryCommand = command{name: "lab carry", run: runLabCarry}

func runLabCarry(c *call) error {
	var file, name string
	var tied bool
	c.flags.StringVar(&file, "world", "", "")
	c.flags.StringVar(&name, "name", "", "")
	c.flags.BoolVar(&tied, "tied", false, "")
	if err := c.parse(); err != nil {
		return err
	}
	tell := os.NewFile(3, "report")
	report := func(r carrierReport) {
		_ = json.NewEncoder(tell).Encode(r)
		_ = tell.Close()
	}
	ctx := c.ctx
	if tied {
		var done func()
		ctx, done = untilClosed(ctx, 4)
		defer done()
	}
	m, err := readWorld(file, time.Time{})
	if err == nil {
		err = lab.Serve(ctx, m, lab.ServeOptions{Folder: labFolder(), Name: name, World: file, Unprivileged: os.Getenv(unprivilegedMark) != "",
			Ready: func(lab.Record) { report(carrierReport{}) }})
	}
	if err != nil {
		status := exitUnmeasured
		var e exit
		if errors.As(err, &e) {
			status = e.status
		}
		report(carrierReport{Error: err.Error(), Status: status})
	}
	return err
}

// namespaceOf tells whether two processes share a user namespace.
func namespaceOf(process string) string {
	link, err := os.Readlink("/proc/" + process + "/ns/user")
	if err != nil {
		return "?" + process
	}
	return link
}

// throughUser is the command line by which a program without privileges gets
// into a lab's user namespace, and there into the host.
func throughUser(r lab.Record, host string, program []string) ([]string, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	enter, err := exec.LookPath("nsenter")
	if err != nil {
		return nil, exit{exitUnmeasured, errors.New("the lab lives in a user namespace: to get into it 'nsenter' is needed (Debian: package util-linux)")}
	}
	return append([]string{enter, "--user=/proc/" + strconv.Itoa(r.Process) + "/ns/user", "--preserve-credentials", "--",
		self, "lab", "enter", "-name", r.Name, "-at", host, "--"}, program...), nil
}

// labEnterCommand becomes a program at a host, within the lab's user namespace.
var labEnterCommand = command{name: "lab enter", run: runLabEnter}

func runLabEnter(c *call) error {
	var name, at string
	c.flags.StringVar(&name, "name", "", "")
	c.flags.StringVar(&at, "at", "", "")
	if err := c.parse(); err != nil {
		return err
	}
	r, err := aliveLab(name)
	if err != nil {
		return err
	}
	h, err := r.Host(at)
	if err != nil {
		return exit{exitWrongCall, err}
	}
	return become(r, h, c.args)
}

// become turns this process into a program at a host.
func become(r lab.Record, h lab.Host, program []string) error {
	err := r.Door(h).Become(program[0], program, labEnvironment(r))
	if errors.Is(err, exec.ErrNotFound) {
		return exit{exitWrongCall, fmt.Errorf("there is no program %q here", short(program[0]))}
	}
	return exit{exitUnmeasured, err}
}

// labEnvironment lets programs in a lab find it.
func labEnvironment(r lab.Record) []string {
	var out []string
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, unprivilegedMark) {
			out = append(out, e)
		}
	}
	return append(out, "WOODLARK_LAB="+r.Name)
}
