// Package capture writes probes and their answers as evidence, in pcapng
// (draft-ietf-opsawg-pcapng), for any program that reads packet captures.
//
//	f, err := capture.Create("trace.pcapng")
//	f.Packet(time.Now(), packet)
//	err = f.Close()
package capture

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
)

// File is a capture that is being written. It is for many goroutines.
type File struct {
	mu      sync.Mutex
	file    io.Closer
	writer  *pcapgo.NgWriter
	problem error
	written int
}

// Create makes a new file; one that is there already is an error.
func Create(name string) (*File, error) {
	file, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("%s is there already; name another file, or remove it", name)
	}
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	f, err := New(file)
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	f.file = file
	return f, nil
}

// noCloser is what is closed by who opened it.
type noCloser struct{}

func (noCloser) Close() error { return nil }

// New writes to w, which is not closed.
func New(w io.Writer) (*File, error) {
	about := pcapgo.NgInterface{Name: "probes", Description: "probes sent, and answers to them", LinkType: layers.LinkTypeRaw, SnapLength: 0, TimestampResolution: 9}
	ng, err := pcapgo.NewNgWriterInterface(w, about, pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{Application: "woodlark"}})
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	return &File{file: noCloser{}, writer: ng}, nil
}

// Packet writes one IP packet.
func (f *File) Packet(at time.Time, packet []byte) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.problem != nil || f.file == nil {
		return
	}
	f.problem = f.writer.WritePacket(gopacket.CaptureInfo{Timestamp: at.UTC(), CaptureLength: len(packet), Length: len(packet)}, packet)
	f.written++
}

// Close ends the file, and returns the first error that writing met.
func (f *File) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.file == nil {
		return nil
	}
	err := errors.Join(f.problem, f.writer.Flush(), f.file.Close())
	f.file = nil
	if err != nil {
		return fmt.Errorf("capture: %w", err)
	}
	return nil
}
