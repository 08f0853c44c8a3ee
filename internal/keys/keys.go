// Package keys makes keys that nobody guesses, and keeps of them, and of passphrases that
// people choose, only what does not give them away.
//
//	key := keys.New("wlk")
//	row.Mark = keys.Mark(key)
//	hash, err := keys.Hash("a long passphrase")
//	ok := keys.Fits(hash, "a long passphrase")
package keys

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"runtime"

	"golang.org/x/crypto/argon2"
)

// keyBytes is how many bytes of chance a key has.
const keyBytes = 32

// New is a key of 256 bits of chance, behind what it is for, such as "wlk-6f…".
func New(what string) string {
	b := make([]byte, keyBytes)
	_, _ = rand.Read(b)
	return what + "-" + hex.EncodeToString(b)
}

// Mark is what is kept of a key: its hash. A key has so much chance that it needs no salt.
func Mark(key string) []byte {
	sum := sha256.Sum256([]byte("woodlark key " + key))
	return sum[:]
}

// Passphrases are kept as argon2id makes them (RFC 9106), of 19 MiB and two passes.
const (
	memory, passes, threads = 19 << 10, 2, 1
	saltBytes, hashBytes    = 16, 32
)

// atOnce bounds how many passphrases are hashed side by side: each takes 19 MiB.
var atOnce = make(chan struct{}, max(2, runtime.GOMAXPROCS(0)))

func hash(phrase string, salt []byte) []byte {
	atOnce <- struct{}{}
	defer func() { <-atOnce }()
	return argon2.IDKey([]byte(phrase), salt, passes, memory, threads, hashBytes)
}

// Hash is what is kept of a passphrase.
func Hash(phrase string) (string, error) {
	salt := make([]byte, saltBytes)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	return base64.RawStdEncoding.EncodeToString(append(salt, hash(phrase, salt)...)), nil
}

// Fits reports whether a passphrase is the one that was hashed. It takes as long where nothing was
// hashed, so that the time does not tell.
func Fits(kept, phrase string) bool {
	b, err := base64.RawStdEncoding.DecodeString(kept)
	known := err == nil && len(b) == saltBytes+hashBytes
	if !known {
		b = make([]byte, saltBytes+hashBytes)
	}
	return subtle.ConstantTimeCompare(b[saltBytes:], hash(phrase, b[:saltBytes])) == 1 && known
}
