package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
)

// call asks whichever service answers.
func (x *trial) call(ctx context.Context, method, path string, body, into any) error {
	var errs []error
	for _, base := range x.bases {
		err := call(ctx, base, method, path, body, into)
		if err == nil {
			return nil
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

var client = &http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}

func call(ctx context.Context, base, method, path string, body, into any) error {
	var text io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		text = strings.NewReader(string(b))
	}
	r, err := http.NewRequestWithContext(ctx, method, base+"/api/v1"+path, text)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		why, _ := io.ReadAll(io.LimitReader(answer.Body, 500))
		return fmt.Errorf("%s %s: %s: %s", method, path, answer.Status, why)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(into)
}

// answers waits until a service takes something that is kept, and says how long that took.
func (x *trial) answers(ctx context.Context, since time.Time) (time.Duration, error) {
	var last error
	for time.Since(since) < 90*time.Second && ctx.Err() == nil {
		// Something that is written, and read back from the database.
		if last = x.call(ctx, http.MethodPost, "/objectives", map[string]any{"name": "still-there", "limits": map[string]any{"delay_ms": 100}}, nil); last == nil {
			return time.Since(since), nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return 0, fmt.Errorf("no service answers: %w", last)
}

// works is which service works on the database.
func (x *trial) works(ctx context.Context) int {
	var s struct {
		Services []struct {
			Address string
			Works   bool
		}
	}
	if x.call(ctx, http.MethodGet, "/status", nil, &s) == nil {
		for _, m := range s.Services {
			if m.Works {
				return slices.Index(x.bases, m.Address)
			}
		}
	}
	return -1
}
