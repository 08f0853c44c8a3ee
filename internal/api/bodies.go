package api

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"woodlark.example/internal/protocol"
)

// bounds of a body: as it comes, and unpacked.
type bounds struct {
	packed, unpacked int64
	time             time.Duration // to read it in
}

var (
	ofStrangers = bounds{16 << 10, 64 << 10, 10 * time.Second}
	ofHealth    = bounds{64 << 10, 512 << 10, 20 * time.Second}
	ofReplies   = bounds{8 << 20, 32 << 20, time.Minute}
	ofUploads   = bounds{16 << 20, 64 << 20, time.Minute}
)

const (
	// atOnceUnpacked is how many large bodies are unpacked at the same time.
	atOnceUnpacked = 3
	// mostPlaces is how many objects and lists one thing of an upload may hold: in memory
	// they are far larger than their braces.
	mostPlaces = 400_000
	mostListed = 5000
)

var errTooLarge = errors.New("the body is larger than is taken here")

// limited reads no more than so many bytes, and says when there is more.
type limited struct {
	from io.Reader
	left int64
}

func (l *limited) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, errTooLarge
	}
	n, err := l.from.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	return n, err
}

// dense refuses long runs of blanks: a decoder of JSON takes the longer over each the more
// there were before it.
type dense struct {
	from io.Reader
	run  int
}

const mostBlanks = 16 << 10

func (d *dense) Read(b []byte) (int, error) {
	n, err := d.from.Read(b)
	for _, c := range b[:n] {
		switch c {
		case ' ', '\t', '\n', '\r':
			if d.run++; d.run > mostBlanks {
				return 0, errTooLarge
			}
		default:
			d.run = 0
		}
	}
	return n, err
}

// bodyOf is the body of a call, unpacked as it is read, within bounds.
func bodyOf(w http.ResponseWriter, r *http.Request, most bounds) (io.Reader, error) {
	_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(most.time))
	if r.ContentLength > most.packed {
		return nil, errTooLarge
	}
	packed := &limited{r.Body, most.packed + 1}
	switch r.Header.Get("Content-Encoding") {
	case "", "identity":
		return &dense{from: packed}, nil
	case "gzip":
		unpacked, err := gzip.NewReader(packed)
		if err != nil {
			return nil, errors.New("it is not packed as it says")
		}
		return &dense{from: &limited{unpacked, most.unpacked + 1}}, nil
	}
	return nil, fmt.Errorf("the encoding %q is not known here: gzip, or none", cut(r.Header.Get("Content-Encoding")))
}

// refuseBody says what is wrong with a body.
func refuseBody(w http.ResponseWriter, r *http.Request, err error) {
	status := http.StatusBadRequest
	if errors.Is(err, errTooLarge) {
		status = http.StatusRequestEntityTooLarge
	}
	refuse(w, r, status, "The body cannot be read: "+err.Error()+".")
}

// readBody reads JSON, packed or not, within bounds.
func readBody(w http.ResponseWriter, r *http.Request, most bounds, into any) bool {
	from, err := bodyOf(w, r, most)
	if err == nil {
		err = decodeOne(json.NewDecoder(from), into)
	}
	if err != nil {
		refuseBody(w, r, err)
		return false
	}
	return true
}

// decodeOne decodes the next value, if it does not hold more than is taken.
func decodeOne(d *json.Decoder, into any) error {
	var raw json.RawMessage
	if err := d.Decode(&raw); err != nil {
		return plainJSON(err)
	}
	if n := bytes.Count(raw, []byte("{")) + bytes.Count(raw, []byte("[")); n > mostPlaces {
		return errTooLarge
	}
	return plainJSON(json.Unmarshal(raw, into))
}

// plainJSON says what is wrong with JSON without the names of our types.
func plainJSON(err error) error {
	var wrong *json.UnmarshalTypeError
	switch {
	case errors.As(err, &wrong):
		return fmt.Errorf("%s cannot be a %s", wrong.Field, wrong.Value)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("it ends too early")
	}
	return err
}

// decodeList decodes a list, one thing after the other.
func decodeList[T any](d *json.Decoder, into *[]T) error {
	open, err := d.Token()
	if err != nil {
		return plainJSON(err)
	}
	if open == nil {
		return nil
	}
	if open != json.Delim('[') {
		return errors.New("a list was expected")
	}
	for d.More() {
		if len(*into) >= mostListed {
			return errTooLarge
		}
		var x T
		if err := decodeOne(d, &x); err != nil {
			return err
		}
		*into = append(*into, x)
	}
	_, err = d.Token()
	return plainJSON(err)
}

// decodeUpload decodes an upload, one thing after the other, so that a small body cannot
// become a large one.
func decodeUpload(from io.Reader) (u protocol.Upload, err error) {
	d := json.NewDecoder(from)
	open, err := d.Token()
	if err != nil {
		return u, plainJSON(err)
	}
	if open != json.Delim('{') {
		return u, errors.New("an object was expected")
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return u, plainJSON(err)
		}
		switch key {
		case "Readings":
			err = decodeList(d, &u.Readings)
		case "Runs":
			err = decodeList(d, &u.Runs)
		case "Sweeps":
			err = decodeList(d, &u.Sweeps)
		case "Traces":
			err = decodeList(d, &u.Traces)
		case "TwoEnded":
			err = decodeList(d, &u.TwoEnded)
		case "made":
			err = decodeList(d, &u.Made)
		case "conversations":
			err = decodeList(d, &u.Conversations)
		case "SentAt":
			err = decodeOne(d, &u.SentAt)
		case "Agent": // whose it is goes by the key
			var skip json.RawMessage
			err = d.Decode(&skip)
		default:
			return u, fmt.Errorf("this service does not know %q", cut(fmt.Sprint(key)))
		}
		if err != nil {
			return u, err
		}
	}
	_, err = d.Token()
	return u, plainJSON(err)
}

// unpack waits for its turn to unpack a large body; false when there is none soon.
func (s *server) unpack(w http.ResponseWriter, r *http.Request) (done func(), ok bool) {
	turn := time.NewTimer(10 * time.Second)
	defer turn.Stop()
	select {
	case s.unpacking <- struct{}{}:
		return func() { <-s.unpacking }, true
	case <-turn.C:
		refuse(w, r, http.StatusServiceUnavailable, "Too many agents upload at once; try again in a moment.")
	case <-r.Context().Done():
	}
	return nil, false
}
