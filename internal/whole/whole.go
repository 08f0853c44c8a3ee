// Package whole writes files that are there whole, or as they were.
//
//	err := whole.Write(name, data)
package whole

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Part ends the name of what is being written: what a program left behind that was ended meanwhile.
const Part = ".part"

// Write writes a file that nobody else may read. After it, and after a power cut during it, the file is
// there with all of data, or as it was. Two at once that write one file have to agree among themselves.
// The error names the file and wraps what the system said.
func Write(name string, data []byte) error {
	part := name + Part
	err := synced(part, data)
	if err == nil {
		err = os.Rename(part, name)
	}
	if err != nil {
		_ = os.Remove(part)
		return fmt.Errorf("write %s (free some space, or check its permissions): %w", name, err)
	}
	folder, err := os.Open(filepath.Dir(name))
	if err != nil {
		return fmt.Errorf("keep the name of %s: %w", name, err)
	}
	if err := errors.Join(folder.Sync(), folder.Close()); err != nil { // the name, too
		return fmt.Errorf("keep the name of %s: %w", name, err)
	}
	return nil
}

func synced(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Sync(), f.Close())
}
