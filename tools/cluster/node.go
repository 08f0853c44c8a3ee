package main

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // by which nodes are asked how they stand
)

const (
	provider = "/usr/lib/galera/libgalera_smm.so"
	password = "a-made-up-word"
)

// node is a server of the cluster.
type node struct {
	dir                    string
	sql, group, state, sst int // ports
	cmd                    *exec.Cmd
}

func (n *node) socket() string { return filepath.Join(n.dir, "db.sock") }

// options are those of every node.
func (n *node) options(peers []string) []string {
	return []string{
		"--no-defaults", "--user=" + user(), "--datadir=" + filepath.Join(n.dir, "data"), "--socket=" + n.socket(), "--pid-file=" + filepath.Join(n.dir, "pid"),
		"--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", n.sql), "--skip-name-resolve", "--log-error=" + filepath.Join(n.dir, "server.log"),
		"--binlog-format=ROW", "--innodb-autoinc-lock-mode=2", "--innodb-buffer-pool-size=64M", "--innodb-flush-log-at-trx-commit=1", "--max-allowed-packet=64M",
		"--wsrep-on=ON", "--wsrep-provider=" + provider, "--wsrep-cluster-name=skerry-line", "--wsrep-node-address=127.0.0.1",
		"--wsrep-cluster-address=gcomm://" + strings.Join(peers, ","),
		// A node comes back by what it missed, which the others keep; by a copy of all where that is too much.
		"--wsrep-sst-method=rsync", fmt.Sprintf("--wsrep-sst-receive-address=127.0.0.1:%d", n.sst),
		fmt.Sprintf("--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:%d;ist.recv_addr=127.0.0.1:%d;gcache.size=256M;base_port=%d", n.group, n.state, n.group),
	}
}

// user is as whom nodes run: what copies them lets nothing be written as root.
func user() string {
	if os.Geteuid() == 0 {
		return "nobody"
	}
	return os.Getenv("USER")
}

// owned gives a folder to who runs nodes.
func owned(dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	if out, err := exec.Command("chown", "-R", user()+":", dir).CombinedOutput(); err != nil {
		return fmt.Errorf("give %s to %s: %w: %s", dir, user(), err, out)
	}
	return nil
}

// begin starts a node; as the first of the cluster where it is told so.
func (n *node) begin(ctx context.Context, peers []string, first bool) error {
	args := n.options(peers)
	if first {
		args = append(args, "--wsrep-new-cluster")
	} else if at, err := n.recovered(peers); err != nil {
		return err
	} else if at != "" {
		args = append(args, "--wsrep-start-position="+at)
	}
	n.cmd = exec.Command("mariadbd", args...)
	n.cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin")
	n.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if path, err := exec.LookPath("mariadbd"); err != nil || path == "" {
		n.cmd.Path = "/usr/sbin/mariadbd"
		n.cmd.Err = nil
	}
	if err := n.cmd.Start(); err != nil {
		return err
	}
	for began := time.Now(); time.Since(began) < 90*time.Second; time.Sleep(200 * time.Millisecond) {
		if n.synced(ctx) {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	log, _ := os.ReadFile(filepath.Join(n.dir, "server.log"))
	return fmt.Errorf("the node in %s is not synced; its log ends:\n%s", n.dir, log[max(0, len(log)-2000):])
}

var position = regexp.MustCompile(`[Rr]ecovered position:? ([0-9a-f-]{36}:-?\d+)`)

// recovered is how far a node had come; empty for one that was never part of a cluster.
func (n *node) recovered(peers []string) (string, error) {
	log := filepath.Join(n.dir, "recover.log")
	_ = os.Remove(log)
	c := exec.Command("mariadbd", append(n.options(peers), "--log-error="+log, "--wsrep-recover")...)
	c.Path = sbin(c.Path)
	c.Err = nil
	if out, err := c.CombinedOutput(); err != nil {
		return "", fmt.Errorf("how far a node had come cannot be read: %w: %s", err, out)
	}
	text, err := os.ReadFile(log)
	if err != nil {
		return "", err
	}
	if found := position.FindSubmatch(text); found != nil && !bytes.HasPrefix(found[1], []byte("00000000-")) {
		return string(found[1]), nil
	}
	return "", nil
}

func sbin(path string) string {
	if !strings.Contains(path, "/") {
		return "/usr/sbin/" + path
	}
	return path
}

// ask reads one value.
func (n *node) ask(ctx context.Context, query string, into ...any) error {
	db, err := sql.Open("mysql", fmt.Sprintf("root@unix(%s)/?timeout=2s&readTimeout=2s", n.socket()))
	if err != nil {
		return err
	}
	defer db.Close()
	return db.QueryRowContext(ctx, query).Scan(into...)
}

func (n *node) synced(ctx context.Context) bool {
	var name, state string
	return n.ask(ctx, "SHOW STATUS LIKE 'wsrep_local_state_comment'", &name, &state) == nil && state == "Synced"
}

// do carries out statements.
func (n *node) do(ctx context.Context, statements ...string) error {
	db, err := sql.Open("mysql", fmt.Sprintf("root@unix(%s)/", n.socket()))
	if err != nil {
		return err
	}
	defer db.Close()
	for _, s := range statements {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

func (n *node) signal(s syscall.Signal) {
	if n.cmd != nil && n.cmd.Process != nil {
		_ = syscall.Kill(-n.cmd.Process.Pid, s)
		if s == syscall.SIGKILL || s == syscall.SIGTERM {
			_ = n.cmd.Wait()
		}
	}
}

// cluster makes the nodes: the first is made, and the others begin as copies of it.
func cluster(ctx context.Context, dir string, many int) ([]*node, []string, error) {
	var nodes []*node
	var peers []string
	for i := range many {
		n := &node{dir: filepath.Join(dir, fmt.Sprintf("node%d", i+1))}
		for _, p := range []*int{&n.sql, &n.group, &n.state, &n.sst} {
			var err error
			if *p, err = freePort(); err != nil {
				return nil, nil, err
			}
		}
		nodes, peers = append(nodes, n), append(peers, fmt.Sprintf("127.0.0.1:%d", n.group))
	}
	first := nodes[0]
	if err := os.MkdirAll(first.dir, 0o755); err != nil {
		return nil, nil, err
	}
	if out, err := exec.Command("mariadb-install-db", "--no-defaults", "--user="+user(), "--auth-root-authentication-method=normal", "--skip-test-db", "--datadir="+filepath.Join(first.dir, "data")).CombinedOutput(); err != nil {
		return nil, nil, fmt.Errorf("make the first node: %w: %s", err, out)
	}
	if err := owned(first.dir); err != nil {
		return nil, nil, err
	}
	if err := first.begin(ctx, peers, true); err != nil {
		return nodes, nil, err
	}
	if err := first.do(ctx, "CREATE DATABASE woodlark CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", "CREATE USER woodlark@'127.0.0.1' IDENTIFIED BY '"+password+"'", "GRANT ALL ON woodlark.* TO woodlark@'127.0.0.1'"); err != nil {
		return nil, nil, err
	}
	first.signal(syscall.SIGTERM)
	for _, n := range nodes[1:] {
		if out, err := exec.Command("cp", "-a", first.dir, n.dir).CombinedOutput(); err != nil {
			return nodes, nil, fmt.Errorf("copy the first node: %w: %s", err, out)
		}
	}
	for i, n := range nodes {
		if err := n.begin(ctx, peers, i == 0); err != nil {
			return nodes, nil, err
		}
	}
	return nodes, peers, nil
}
