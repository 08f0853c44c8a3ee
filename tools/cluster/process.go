package main

import (
	"os"
	"os/exec"
	"syscall"
)

// process is one of ours.
type process struct {
	name string
	args []string
	log  string
	cmd  *exec.Cmd
}

func (p *process) begin() error {
	out, err := os.OpenFile(p.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	p.cmd = exec.Command(program, p.args...)
	p.cmd.Stdout, p.cmd.Stderr = out, out
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return p.cmd.Start()
}

func (p *process) signal(s syscall.Signal) {
	if p.cmd == nil || p.cmd.Process == nil {
		return
	}
	_ = syscall.Kill(-p.cmd.Process.Pid, s)
	if s == syscall.SIGKILL || s == syscall.SIGTERM {
		_ = p.cmd.Wait()
	}
}
