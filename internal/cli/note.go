package cli

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"woodlark.example/internal/whole"
)

// note is what a running service leaves in its state folder for the command
// line on the same machine.
type note struct {
	URL string `json:"url"`
	Pid int    `json:"pid"`
	// Cert is the file of the certificate that the service shows; empty without TLS. Whoever can
	// change that file or this note could as well read the token: what it holds is trusted.
	Cert string `json:"cert,omitempty"`

	token string
}

const (
	noteFile  = "service.json"
	tokenFile = "token"
)

func writeNote(folder string, n note) error {
	data, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return whole.Write(filepath.Join(folder, noteFile), data)
}

// readNote reads the note and the token of the service that runs on a folder.
func readNote(folder string) (note, error) {
	var n note
	data, err := os.ReadFile(filepath.Join(folder, noteFile))
	if err != nil {
		return n, err
	}
	if err := json.Unmarshal(data, &n); err != nil {
		return n, err
	}
	if err := syscall.Kill(n.Pid, 0); err != nil && !errors.Is(err, syscall.EPERM) {
		return n, errors.New("that service has ended")
	}
	token, err := os.ReadFile(filepath.Join(folder, tokenFile))
	n.token = strings.TrimSpace(string(token))
	return n, err
}

// adminToken reads the administrator's token, made at the first start.
func adminToken(folder string) (string, error) {
	name := filepath.Join(folder, tokenFile)
	data, err := os.ReadFile(name)
	if err == nil && len(strings.TrimSpace(string(data))) >= 32 {
		return strings.TrimSpace(string(data)), os.Chmod(name, 0o600)
	}
	switch {
	case err == nil:
		// Whoever was given the old one would be locked out without a word.
		return "", fmt.Errorf("the file of the administrator's token, %s, is damaged: it holds %d bytes and needs 32 at least. Put the token back, or remove the file to have a new one made", name, len(strings.TrimSpace(string(data))))
	case !errors.Is(err, fs.ErrNotExist):
		return "", fmt.Errorf("read the administrator's token: %w", err)
	}
	random := make([]byte, 24)
	_, _ = rand.Read(random)
	token := hex.EncodeToString(random)
	if err := whole.Write(name, []byte(token+"\n")); err != nil {
		return "", fmt.Errorf("keep the administrator's token: %w", err)
	}
	return token, nil
}

// lockState makes sure that one service only works on a state folder. The lock
// goes with the process, however it ends.
func lockState(folder string) (*os.File, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("make the state folder: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the state folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("the state folder %s is in use by another woodlark; end that one, or name another folder with -state", folder)
	}
	return f, nil
}
