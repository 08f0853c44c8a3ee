// Package mariadb finds a MariaDB server on this machine and runs it privately:
// in a data folder of our own, on a socket only, stopped with us. It never
// touches another server.
//
//	s, err := mariadb.Start(ctx, mariadb.Options{Dir: filepath.Join(state, "database")})
//	defer s.Stop()
//	db, err := sql.Open("mysql", s.DSN("woodlark"))
package mariadb

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
)

// ErrNotFound is returned when there is no server program on this machine.
var ErrNotFound = errors.New("no MariaDB server on this machine: install it (Debian: 'apt-get install mariadb-server-core mariadb-client-core'), or name a database with -database")

var folders = []string{"/usr/sbin", "/usr/local/sbin", "/usr/bin", "/usr/local/bin", "/usr/libexec", "/usr/local/mysql/bin", "/opt/mariadb/bin"}

// find looks for a program by any of its names, in PATH and where servers
// usually are.
func find(names ...string) (string, error) {
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
		for _, folder := range folders {
			path := filepath.Join(folder, name)
			if info, err := os.Stat(path); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
				return path, nil
			}
		}
	}
	return "", fmt.Errorf("%w (looked for %v)", ErrNotFound, names)
}
