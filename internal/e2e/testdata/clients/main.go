// Command clients does with a client that was generated from the OpenAPI document what its
// readers would: list paths, ping, follow that, add a watch, read a baseline, get the
// report. Its arguments are the service's address, the token and a path.
package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"time"

	"woodlark.example/internal/e2e/testdata/clients/generated"
)

func main() {
	if err := do(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "clients:", err)
		os.Exit(1)
	}
	fmt.Println("done")
}

func do(base, token, path string) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c, err := generated.NewClientWithResponses(base, generated.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	if err != nil {
		return err
	}
	paths, err := c.ListPathsWithResponse(ctx, &generated.ListPathsParams{State: &[]generated.ListPathsParamsState{"steady", "unmeasured", "degraded", "lost"}})
	if err != nil {
		return err
	}
	if paths.JSON200 == nil || paths.JSON200.Paths == nil || len(*paths.JSON200.Paths) == 0 {
		return fmt.Errorf("no paths: %s", paths.Body)
	}
	probes := int64(5)
	every := "20ms"
	started, err := c.StartRunsWithResponse(ctx, generated.Measurement{From: "local", To: &[]string{"127.0.0.1"}, Probes: &probes, Interval: &every})
	if err != nil || started.JSON202 == nil || len(*started.JSON202) != 1 {
		return fmt.Errorf("no run: %w %s", err, started.Body)
	}
	id := (*started.JSON202)[0].Id
	for {
		run, err := c.GetRunWithResponse(ctx, id)
		if err != nil || run.JSON200 == nil {
			return fmt.Errorf("the run is not told: %w %s", err, run.Body)
		}
		if run.JSON200.Outcome == "done" {
			if run.JSON200.Reading.Answered != probes {
				return fmt.Errorf("%d answers", run.JSON200.Reading.Answered)
			}
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	added, err := c.AddWatchWithResponse(ctx, generated.WatchSpec{Name: "by a generated client", From: &[]string{"local"}, To: &[]string{"127.0.0.2"}})
	if err != nil || added.JSON201 == nil || added.JSON201.Paths != 1 {
		return fmt.Errorf("no watch: %w %s", err, added.Body)
	}
	baseline, err := c.GetBaselineWithResponse(ctx, path)
	if err != nil || baseline.JSON200 == nil && baseline.ApplicationproblemJSON404 == nil {
		return fmt.Errorf("neither a baseline nor none: %w %s", err, baseline.Body)
	}
	report, err := c.ReportDegradedWithResponse(ctx, &generated.ReportDegradedParams{})
	if err != nil || report.JSON200 == nil || report.JSON200.Summary == "" {
		return fmt.Errorf("no report: %w %s", err, report.Body)
	}
	return nil
}
