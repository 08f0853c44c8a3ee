package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	_ "github.com/go-sql-driver/mysql" // the driver behind sql.Open("mysql", …)
)

// Options of Start.
type Options struct {
	Dir       string // data folder, made when it is not there
	Log       *slog.Logger
	BufferMiB int // InnoDB's buffer pool; 256 when 0
	// Patience is how long it may take until it answers: after a kill it reads its log
	// first. A minute when 0.
	Patience time.Duration
	// FlushLate has a commit wait for the system only, not for the disk: a power cut loses up to
	// a second of what was taken, a kill nothing. For data that are not to last.
	FlushLate bool
}

// Server is a running private server. It is started again when it dies.
type Server struct {
	options Options
	program string
	data    string
	socket  string
	tmp     string // holds the socket when the data folder's path is too long for one
	log     *slog.Logger

	mu       sync.Mutex
	process  *os.Process
	stopping bool
	ended    chan struct{}
}

const (
	startTimeout = 60 * time.Second
	orderlyEnd   = 5 * time.Second // of a server that was left behind
)

// Start makes the data folder if need be, starts the server and waits until it
// answers.
func Start(ctx context.Context, o Options) (*Server, error) {
	program, err := find("mariadbd", "mysqld")
	if err != nil {
		return nil, err
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.BufferMiB == 0 {
		o.BufferMiB = 256
	}
	if o.Patience == 0 {
		o.Patience = startTimeout
	}
	if o.Dir, err = filepath.Abs(o.Dir); err != nil {
		return nil, err
	}
	s := &Server{options: o, program: program, data: filepath.Join(o.Dir, "data"), log: o.Log, ended: make(chan struct{})}
	if err := os.MkdirAll(s.scratch(), 0o700); err != nil {
		return nil, fmt.Errorf("make the database's folder: %w", err)
	}
	if err := s.initialise(ctx); err != nil {
		return nil, err
	}
	if err := s.placeSocket(); err != nil {
		return nil, err
	}
	started := make(chan error, 1)
	go s.supervise(started)
	if err := <-started; err != nil {
		return nil, err
	}
	if err := s.await(ctx); err != nil {
		_ = s.Stop()
		return nil, fmt.Errorf("%w: %s\n%s", err, s.complaint(), s.logTail())
	}
	return s, nil
}

// scratch is the server's own folder for temporary tables. A server clears that
// folder when it starts: in a shared one it would take those of others.
func (s *Server) scratch() string { return filepath.Join(s.options.Dir, "tmp") }

// initialise fills a new data folder. It does so beside it and renames, so that
// a half-made one is never taken for whole.
func (s *Server) initialise(ctx context.Context) error {
	if _, err := os.Stat(s.data); err == nil {
		return nil
	}
	install, err := find("mariadb-install-db", "mysql_install_db")
	if err != nil {
		return err
	}
	making := s.data + ".new"
	if err := os.RemoveAll(making); err != nil {
		return err
	}
	// It need not look up what this machine is called: nobody comes by a network.
	args := []string{"--no-defaults", "--force", "--datadir=" + making, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve", "--tmpdir=" + s.scratch(), "--innodb-flush-log-at-trx-commit=2"}
	args = append(args, userArgs()...)
	cmd := exec.CommandContext(ctx, install, args...)
	cmd.Env = append(os.Environ(), "TMPDIR="+s.scratch())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make the database's files in %s: %w\n%s", making, err, bytes.TrimSpace(out))
	}
	// It is there whole, or not at all, also after a power cut.
	if !s.options.FlushLate {
		if err := syncAll(making); err != nil {
			return fmt.Errorf("bring the database's files in %s to the disk: %w", making, err)
		}
	}
	return os.Rename(making, s.data)
}

// syncAll brings everything of the file system that holds a folder to the disk.
func syncAll(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(f.Fd())), f.Close())
}

// userArgs let the server run as root where we do; it refuses to by itself.
func userArgs() []string {
	if u, err := user.Current(); err == nil && u.Uid == "0" {
		return []string{"--user=root"}
	}
	return nil
}

func (s *Server) placeSocket() error {
	s.socket = filepath.Join(s.options.Dir, "db.sock")
	if len(s.socket) < 100 { // sockaddr_un holds 108 bytes
		return nil
	}
	var err error
	if s.tmp, err = os.MkdirTemp("", "woodlark-db-"); err != nil {
		return fmt.Errorf("make a folder for the database's socket: %w", err)
	}
	s.socket = filepath.Join(s.tmp, "db.sock")
	return nil
}

func (s *Server) arguments() []string {
	flush := "1" // to the disk at each commit: neither a kill nor a power cut loses what was taken
	if s.options.FlushLate {
		flush = "2"
	}
	return append([]string{
		"--no-defaults", "--datadir=" + s.data, "--tmpdir=" + s.scratch(), "--socket=" + s.socket, "--skip-networking",
		"--pid-file=" + filepath.Join(s.options.Dir, "db.pid"), "--log-error=" + filepath.Join(s.options.Dir, "db.log"),
		"--skip-name-resolve", "--skip-log-bin", "--max-connections=100", "--performance-schema=OFF",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin", "--default-time-zone=+00:00",
		"--innodb-buffer-pool-size=" + strconv.Itoa(s.options.BufferMiB) + "M", "--innodb-log-file-size=128M",
		"--innodb-flush-log-at-trx-commit=" + flush, "--innodb-flush-method=O_DIRECT",
	}, userArgs()...)
}

// supervise runs the server and starts it again when it dies. It stays on one
// thread, for the server is told to end with its parent's thread.
func (s *Server) supervise(started chan<- error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	defer close(s.ended)
	var pause time.Duration
	for first := true; ; first = false {
		s.waitForOther()
		cmd := exec.Command(s.program, s.arguments()...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
		began := time.Now()
		s.mu.Lock()
		if s.stopping {
			s.mu.Unlock()
			return
		}
		err := cmd.Start()
		if err == nil {
			s.process = cmd.Process
		}
		s.mu.Unlock()
		if first {
			started <- err
			if err != nil {
				return
			}
		}
		if err == nil {
			err = cmd.Wait()
		}
		s.mu.Lock()
		s.process = nil
		stopping := s.stopping
		s.mu.Unlock()
		if stopping {
			return
		}
		if time.Since(began) > 30*time.Second {
			pause = 0
		}
		s.log.Error("the database server ended by itself and is started again", "error", err, "after", pause, "why", s.complaint())
		time.Sleep(pause)
		pause = min(max(2*pause, 500*time.Millisecond), 8*time.Second)
	}
}

// waitForOther waits for a server that an earlier, killed service left behind in
// this folder and that is still ending.
func (s *Server) waitForOther() {
	text, err := os.ReadFile(filepath.Join(s.options.Dir, "db.pid"))
	if err != nil {
		return
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || !s.isOurs(pid) {
		return
	}
	s.log.Info("waiting for the database server of an earlier start to end", "pid", pid)
	_ = syscall.Kill(pid, syscall.SIGTERM)
	began, killed := time.Now(), false
	for s.isOurs(pid) && time.Since(began) < startTimeout {
		if !killed && time.Since(began) > orderlyEnd {
			killed = true
			_ = syscall.Kill(pid, syscall.SIGKILL) // what was committed is in its log
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// isOurs reports whether a process is a server on our own data folder.
func (s *Server) isOurs(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && bytes.Contains(line, []byte("--datadir="+s.data+"\x00"))
}

// await waits until the server answers.
func (s *Server) await(ctx context.Context) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, s.options.Patience)
	defer cancel()
	for {
		err := db.PingContext(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the private database server does not answer on %s: %w", s.socket, errors.Join(ctx.Err(), err))
		case <-s.ended:
			return errors.New("the private database server ended")
		case <-time.After(25 * time.Millisecond):
		}
	}
}

// complaint is why the server ended, as far as can be told from outside: a full
// disk, or the last error in its log.
func (s *Server) complaint() string {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(s.data, &disk); err == nil && disk.Bavail*uint64(disk.Bsize) < 16<<20 {
		return fmt.Sprintf("the disk that holds %s is full: free some space", s.data)
	}
	lines := strings.Split(s.logTail(), "\n")
	for _, line := range slices.Backward(lines) {
		if _, text, ok := strings.Cut(line, "[ERROR] "); ok {
			return text
		}
	}
	return "see " + filepath.Join(s.options.Dir, "db.log")
}

func (s *Server) logTail() string {
	data, err := os.ReadFile(filepath.Join(s.options.Dir, "db.log"))
	if err != nil {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}

// DSN is the data source name of one of its databases, or of none.
func (s *Server) DSN(database string) string {
	return fmt.Sprintf("root@unix(%s)/%s", s.socket, database)
}

// Pid is the server's process, 0 while there is none.
func (s *Server) Pid() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.process == nil {
		return 0
	}
	return s.process.Pid
}

// Stop ends the server and waits for it.
func (s *Server) Stop() error {
	s.mu.Lock()
	s.stopping = true
	if s.process != nil {
		_ = s.process.Signal(syscall.SIGTERM)
	}
	s.mu.Unlock()
	select {
	case <-s.ended:
	case <-time.After(startTimeout):
		s.mu.Lock()
		if s.process != nil {
			_ = s.process.Kill()
		}
		s.mu.Unlock()
		<-s.ended
	}
	if s.tmp != "" {
		return os.RemoveAll(s.tmp)
	}
	return nil
}
