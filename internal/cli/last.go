package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"woodlark.example/internal/whole"
)

// last keeps the last result of each measurement that was made from this machine
// without a service, to compare the next with: by kind, and by what makes it the
// same measurement.
type last struct {
	kind string // a folder, such as "sweeps"
	same []string
}

func (l last) file() (string, error) {
	folders := stateFolders()
	if len(folders) == 0 || folders[0] == "" {
		return "", errNoState
	}
	key := sha256.Sum256([]byte(strings.Join(l.same, "\n")))
	return filepath.Join(folders[0], l.kind, hex.EncodeToString(key[:12])+".json"), nil
}

// read reads the last one into v; false when there is none.
func (l last) read(v any) (known bool, err error) {
	name, err := l.file()
	if err != nil {
		return false, fmt.Errorf("there is nothing to compare with: %w", err)
	}
	b, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err == nil {
		err = json.Unmarshal(b, v)
	}
	if err != nil {
		return false, fmt.Errorf("the last one cannot be read, so nothing is compared: %w", err)
	}
	return true, nil
}

// write keeps v in the place of the last.
func (l last) write(v any) error {
	name, err := l.file()
	if err != nil {
		return err
	}
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	return whole.Write(name, b)
}
