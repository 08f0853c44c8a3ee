package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	sweeping "woodlark.example/internal/kind/sweep"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

const token = "0123456789abcdef0123456789abcdef"

// worker is an agent that answers orders at once.
type worker struct{ c *service.Service }

func (worker) SetPlan(protocol.Plan) {}
func (worker) HeldBack() int         { return 0 }

func (h worker) Standing() (json.RawMessage, error) { return json.RawMessage(`{"host": "quay"}`), nil }

func (h worker) Locate(_ context.Context, o protocol.LocateOrder) (list []kind.Lane, err error) {
	k, err := kind.Find(o.Kind)
	if err != nil {
		return nil, err
	}
	spec, err := k.Decode(kind.Standing, o.Spec)
	if err != nil {
		return nil, err
	}
	return k.Lanes(spec).Split(o.Targets), nil
}

// endless is a target that is pinged until that is stopped.
const endless = "192.0.2.240"

// Do finds of each kind what there is to be found.
func (h worker) Do(ctx context.Context, o protocol.RunOrder, heard func(kind.Progress)) ([]protocol.Made, error) {
	u := protocol.Upload{Agent: h.c.Fleet.Agents()[slices.IndexFunc(h.c.Fleet.Agents(), func(a store.Agent) bool { return a.Name == "quay" })].ID}
	for i, l := range o.Lanes {
		m := protocol.Made{Run: l.Run, Path: l.Path, Watch: o.Watch, FarID: o.FarID, Kind: o.Kind, Version: 1, Lane: l.Lane, Started: time.Now(), Ended: time.Now(), Outcome: protocol.Done}
		var found any
		switch o.Kind {
		case "ping":
			for n := 0; l.Lane.Target == endless && ctx.Err() == nil; n++ {
				heard(kind.Progress{Lane: i, Done: int64(n + 1), Of: 1000, More: reading.Probe{Number: n, Outcome: reading.Answered, RTT: time.Duration(n+1) * time.Millisecond}})
				select {
				case <-ctx.Done():
				case <-time.After(20 * time.Millisecond):
				}
			}
			r := minute(l.Path, time.Now(), 0)
			r.Run, r.Flags = l.Run, protocol.OnDemand
			u.Readings = append(u.Readings, r)
			m.Address = "192.0.2.9"
			heard(kind.Progress{Lane: i, Done: 1, Of: 1, More: reading.Probe{Outcome: reading.Answered, RTT: time.Millisecond}})
		case "trace":
			heard(kind.Progress{Lane: i, Done: 1, More: route.Probe{TTL: 1, Outcome: route.Expired, Addr: netip.MustParseAddr("192.0.2.1"), RTT: time.Millisecond}})
			found = traceBy(l.Run, l.Lane.Target, l.Lane.Via, time.Now(), "192.0.2.1", l.Lane.Target).Report
		case "walk":
			found = finding.WalkReport{From: "quay", Target: l.Lane.Target, Steps: []finding.Step{}, Findings: []finding.Finding{}}
		case "sweep":
			found = h.swept(o)
		default:
			heard(kind.Progress{Lane: i, Done: 500, Of: 1000, Says: "streaming"})
			mos := 4.2
			m.Figures.MOS = &mos
			found = finding.StreamReport{Target: l.Lane.Target, Complete: true, Directions: []finding.StreamDirection{}, Findings: []finding.Finding{}}
		}
		if found != nil {
			var err error
			if m.Body, err = json.Marshal(found); err != nil {
				return nil, err
			}
		}
		u.Made = append(u.Made, m)
	}
	return nil, h.c.Upload(context.WithoutCancel(ctx), u)
}

// swept finds that each address answered.
func (h worker) swept(o protocol.RunOrder) any {
	spec, _ := sweeping.Kind.Decode(kind.Standing, o.Spec)
	s, _ := spec.(*sweeping.Spec).Space(o.Targets)
	r := sweep.Report{Prefixes: o.Targets, Addresses: s.Len(), Answered: s.Len(), StartedAt: time.Now(), Hosts: []sweep.HostReport{}}
	for i := range s.Len() {
		r.Hosts = append(r.Hosts, sweep.HostReport{Address: s.At(i).String()})
	}
	return r
}

// traceBy is a trace over hops.
func traceBy(id ident.ID, target, via string, at time.Time, hops ...string) protocol.Trace {
	ms := 3.5
	r := &finding.TraceReport{Target: target, Address: target, From: "quay", Via: via, StartedAt: at, Reached: true, RTTMs: &ms, Findings: []finding.Finding{}}
	for k, a := range hops {
		h := finding.HopReport{TTL: k + 1, Address: a, Probes: 5, Answered: 5, RTTMs: &ms, CarriedMs: &ms, Nodes: []finding.NodeReport{}}
		if a != "" {
			h.Nodes = append(h.Nodes, finding.NodeReport{Address: a, Name: "name of " + a, Flows: 6, Share: 1})
		}
		r.Hops = append(r.Hops, h)
	}
	return protocol.Trace{ID: id, Target: target, Family: 4, Via: via, Started: at, Ended: at, Outcome: protocol.Done, Report: r}
}

// minute is a reading of sixty probes of which some are lost.
func minute(path ident.ID, at time.Time, lost int) protocol.Record {
	var probes []reading.Probe
	for i := range 60 {
		p := reading.Probe{DueAt: at.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, RTT: 10*time.Millisecond + time.Duration(i)*time.Microsecond, Stamp: reading.StampKernel}
		if i < lost {
			p = reading.Probe{DueAt: p.DueAt}
		}
		probes = append(probes, p)
	}
	return protocol.Record{Path: path, Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Packed: reading.Pack(at, probes)}
}

type desk struct {
	t    *testing.T
	web  *httptest.Server
	c    *service.Service
	path ident.ID
}

// serve is a service with one watch of one path that has two hours of readings.
func serve(t *testing.T) *desk { return serveAt(t, func(string) string { return "Holm" }) }

// serveAt is serve with what targets stand where.
func serveAt(t *testing.T, siteOf func(string) string) *desk {
	c, err := service.New(t.Context(), service.Options{Store: storetest.New(t), Zone: time.UTC, SiteOf: siteOf, Visitors: netip.MustParseAddrPort("127.0.0.1:0")})
	require.NoError(t, err)
	t.Cleanup(c.Visits.Close)
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Site: "Northquay", Labels: "fibre, main", Kind: "simulated"}, func(ident.ID) (protocol.Worker, error) { return worker{c}, nil }))
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "holm", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}, Tags: []string{"islands"}}, false)
	require.NoError(t, err)
	end := time.Now().Truncate(time.Minute)
	u := protocol.Upload{Agent: c.Fleet.Agents()[0].ID}
	for ago := 120; ago > 0; ago-- {
		u.Readings = append(u.Readings, minute(w.Paths[0], end.Add(-time.Duration(ago)*time.Minute), 0))
	}
	require.NoError(t, c.Upload(t.Context(), u))
	console := fstest.MapFS{"index.html": {Data: []byte("<title>Woodlark</title>")}, "assets/a.js": {Data: []byte("1")}, "visit.html": {Data: []byte("the page to measure by")}}
	web := httptest.NewServer(api.New(api.Options{Service: c, Token: token, Version: "test", Console: console, Backup: func(_ context.Context, to io.Writer) error { _, err := io.WriteString(to, "all"); return err }}))
	t.Cleanup(web.Close)
	return &desk{t, web, c, w.Paths[0]}
}

func (s *desk) call(method, path, body string, headers ...string) (*http.Response, string) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.web.URL+path, bytes.NewBufferString(body))
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	return answer, string(data)
}

func get[T any](s *desk, path string) (out T) {
	s.t.Helper()
	answer, body := s.call(http.MethodGet, "/api/v1"+path, "")
	require.Equal(s.t, 200, answer.StatusCode, "%s: %s", path, body)
	require.NoError(s.t, json.Unmarshal([]byte(body), &out))
	return out
}

func TestReadingsComeInPages(t *testing.T) {
	s := serve(t)
	from := time.Now().Add(-3 * time.Hour)
	seen := map[time.Time]bool{}
	for pages := 0; ; pages++ {
		require.Less(t, pages, 10)
		list := get[api.ReadingList](s, "/paths/"+s.path.String()+"/readings?limit=50&from_at="+url.QueryEscape(from.UTC().Format(time.RFC3339Nano)))
		for _, r := range list.Readings {
			assert.False(t, seen[r.StartedAt], "no reading comes twice")
			seen[r.StartedAt] = true
			assert.Equal(t, 60, r.Answered)
		}
		if list.NextFrom == nil {
			break
		}
		from = *list.NextFrom
	}
	assert.Len(t, seen, 120)
}

func TestSeriesResolutions(t *testing.T) {
	s := serve(t)
	now := time.Now()
	require.NoError(t, s.c.Store.RollDue(t.Context(), now, func(ident.ID, store.Slot) {}))
	for _, c := range []struct {
		span       time.Duration
		resolution string
		least      int
		sent       int
	}{
		{10 * time.Minute, "probe", 500, 0}, {time.Hour, "reading", 58, 0}, {14 * 24 * time.Hour, "10m", 12, 7200},
		{60 * 24 * time.Hour, "1h", 2, 7200}, {365 * 24 * time.Hour, "1d", 1, 7200},
	} {
		x := get[apitype.Series](s, fmt.Sprintf("/paths/%s/series?from_at=%s", s.path, url.QueryEscape(now.Add(-c.span).UTC().Format(time.RFC3339Nano))))
		assert.Equal(t, c.resolution, x.Resolution)
		assert.GreaterOrEqual(t, len(x.At), c.least, c.resolution)
		for _, column := range []int{len(x.SpanS), len(x.RTTMedianMs), len(x.LossRatio), len(x.Sent), len(x.Lost)} {
			assert.Equal(t, len(x.At), column, "columns are of equal length")
		}
		for i := 1; i < len(x.At); i++ {
			assert.False(t, x.At[i].Before(x.At[i-1]), "in order of time")
		}
		if c.sent > 0 {
			total := 0
			for _, n := range x.Sent {
				total += n
			}
			assert.Equal(t, c.sent, total, "%s: rollups and the newest readings together hold every probe once", c.resolution)
			minutes := 0
			for _, span := range x.SpanS {
				if span == 60 {
					minutes++
				}
			}
			assert.Less(t, minutes, 20, "%s: of minutes those that are not rolled up yet", c.resolution)
		}
		assert.Equal(t, c.resolution == "1h" || c.resolution == "1d", x.Approximate)
	}
	answer, body := s.call(http.MethodGet, "/api/v1/paths/"+s.path.String()+"/series?from_at=2026-01-02T00:00:00Z&to_at=2026-01-01T00:00:00Z", "")
	assert.Equal(t, 422, answer.StatusCode)
	assert.Contains(t, body, "are not a span")
}

func TestProblems(t *testing.T) {
	s := serve(t)
	nobody := ident.New().String()
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/paths/" + nobody, "", 404, nobody},
		{"GET", "/paths/nonsense", "", 422, "is not a UUID"},
		{"GET", "/paths/" + nobody + "/readings", "", 404, "not found"},
		{"GET", "/paths/" + s.path.String() + "/baseline", "", 404, "needs 30 readings"},
		{"POST", "/paths/" + s.path.String() + "/baseline", `{"last":"-3h"}`, 422, "above zero"},
		{"GET", "/paths?limit=0", "", 422, "limit"},
		{"GET", "/paths?state=odd", "", 422, "state"},
		{"GET", "/runs/" + nobody, "", 404, "not found"},
		{"GET", "/watches/none", "", 404, "none"},
		{"POST", "/watches", `{"name":"holm","from":["quay"],"to":["192.0.2.1"]}`, 409, "is taken"},
		{"POST", "/watches", `{"name":"x","from":["nobody"],"to":["192.0.2.1"]}`, 422, "there is no agent"},
		{"POST", "/watches", `{"name":"x","from":["quay"]`, 400, ""},
		{"POST", "/watches", `{"name":"x","from":["quay"],"to":["192.0.2.1"],"speed":9}`, 422, "unexpected property"},
		{"POST", "/runs", `{"from":"quay","to":["192.0.2.300"]}`, 422, "is not an IP address"},
		{"GET", "/degraded?from_at=2026-01-02T00:00:00Z&to_at=2026-01-01T00:00:00Z", "", 422, "is not before"},
		{"GET", "/nothing", "", 404, ""},
	} {
		answer, body := s.call(c.method, "/api/v1"+c.path, c.body)
		assert.Equal(t, c.status, answer.StatusCode, "%s %s: %s", c.method, c.path, body)
		assert.Contains(t, body, c.says, c.path)
		if c.says != "" {
			assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), c.path)
		}
	}
	answer, _ := s.call("POST", "/api/v1/watches", `{"name":"`+strings.Repeat("x", 2<<20)+`"}`)
	assert.GreaterOrEqual(t, answer.StatusCode, 400, "a body of two megabytes is not read")
}

func TestBaselinesOverHTTP(t *testing.T) {
	s := serve(t)
	path := "/api/v1/paths/" + s.path.String() + "/baseline"
	answer, body := s.call("POST", path, `{"last":"2h","pin":true}`)
	require.Equal(t, 200, answer.StatusCode, body)
	var b apitype.Baseline
	require.NoError(t, json.Unmarshal([]byte(body), &b))
	assert.True(t, b.Pinned)
	assert.InDelta(t, 119, b.Readings, 1)
	assert.InDelta(t, 10.03, b.RTTMs.Median, 0.01)
	assert.Len(t, get[[]apitype.Baseline](s, "/baselines"), 1)
	answer, body = s.call("PATCH", path, `{"pinned":false}`)
	require.Equal(t, 200, answer.StatusCode, body)
	assert.False(t, get[apitype.Baseline](s, "/paths/"+s.path.String()+"/baseline").Pinned)
	p := get[apitype.Path](s, "/paths/"+s.path.String())
	assert.Equal(t, finding.Code("steady"), p.Findings[0].Code)
	assert.Equal(t, "overall", p.Normal.Resolution)
}

func TestBaselinesAreCarriedAndCompared(t *testing.T) {
	s := serve(t)
	path := "/paths/" + s.path.String()
	answer, body := s.call("GET", "/api/v1"+path+"/baseline/file", "")
	require.Equal(t, 404, answer.StatusCode, body)
	assert.Contains(t, body, "has no baseline yet")
	_, _ = s.call("POST", "/api/v1"+path+"/baseline", `{"last":"2h"}`)
	b := get[apitype.Baseline](s, path+"/baseline")
	require.Len(t, b.Measures, 3)
	for _, m := range b.Measures {
		assert.Len(t, m.Week, 168, m.Measure)
	}
	kept := get[[]apitype.StoredBaseline](s, path+"/baselines")
	require.Len(t, kept, 1)
	assert.True(t, kept[0].InUse)
	file := get[apitype.BaselineFile](s, path+"/baseline/file?measure=rtt")
	assert.Equal(t, "woodlark-baseline-1", file.Form)
	assert.NotContains(t, string(file.Baseline), `"loss"`, "some measures only")
	data, err := json.Marshal(file)
	require.NoError(t, err)
	answer, body = s.call("PUT", "/api/v1"+path+"/baseline/file?pin=true", string(data))
	require.Equal(t, 200, answer.StatusCode, body)
	assert.True(t, get[apitype.Baseline](s, path+"/baseline").Pinned)
	differs := get[[]apitype.Difference](s, path+"/baseline/differences?b="+kept[0].ID)
	require.Len(t, differs, 1, "they have one measure in common")
	assert.False(t, differs[0].Differs)
	answer, body = s.call("POST", "/api/v1"+path+"/baseline/roll", "")
	require.Equal(t, 200, answer.StatusCode, body)
	assert.Len(t, get[apitype.Baseline](s, path+"/baseline").Measures, 3)
	for _, c := range []struct{ method, at, body, says string }{
		{"GET", "/baseline/file?measure=warmth", "", "measure \"warmth\" is unknown"},
		{"PUT", "/baseline/file", `{"form":"woodlark-baseline-1","from":"a","to":"b","family":4,"via":"icmp","baseline":{"zone":"Mars/Olympus"}}`, "a baseline's zone"},
		{"PUT", "/baseline/file", `{"form":"other","from":"a","to":"b","family":4,"via":"icmp","baseline":{}}`, "woodlark-baseline-1"},
		{"GET", "/baseline/differences", "", "say with b or other"},
		{"GET", "/baseline/differences?b=x", "", "x"},
		{"POST", "/accept", `{"kind":"new_level"}`, "nothing of the kind new_level waits"},
		{"POST", "/accept", `{"kind":"daily"}`, "new_level"},
	} {
		answer, body := s.call(c.method, "/api/v1"+path+c.at, c.body)
		assert.Equal(t, 422, answer.StatusCode, "%s %s: %s", c.method, c.at, body)
		assert.Contains(t, body, strings.ReplaceAll(c.says, `"`, `\"`), c.at)
	}
	assert.Empty(t, get[[]apitype.Incident](s, "/incidents"))
	answer, body = s.call("GET", "/api/v1/reports/degraded?from_at=2026-11-02T10:00:00Z&to_at=2026-11-02T09:00:00Z", "")
	assert.Equal(t, 422, answer.StatusCode, body)
	old := get[apitype.Degraded](s, "/reports/degraded?from_at=2026-11-02T09:00:00Z&to_at=2026-11-02T10:00:00Z")
	assert.Contains(t, old.Summary, "0 paths of ")
	assert.Empty(t, old.NotJudged, "how it is now says nothing of then")
}

func TestRunsOnDemand(t *testing.T) {
	s := serve(t)
	answer, body := s.call("POST", "/api/v1/runs", `{"from":"quay","to":["192.0.2.9"],"probes":60}`)
	require.Equal(t, 202, answer.StatusCode, body)
	var runs []apitype.Run
	require.NoError(t, json.Unmarshal([]byte(body), &runs))
	require.Len(t, runs, 1)
	assert.Equal(t, "running", runs[0].Outcome)
	var run apitype.Run
	require.Eventually(t, func() bool {
		run = get[apitype.Run](s, "/runs/"+runs[0].ID)
		return run.Outcome == "done"
	}, time.Minute, 20*time.Millisecond)
	assert.Equal(t, 60, run.Reading.Answered)
	assert.Equal(t, "192.0.2.9", run.Address)
	require.Len(t, run.Findings, 1)
	assert.Equal(t, finding.Code("too_few_probes"), run.Findings[0].Code)
	assert.Len(t, get[[]apitype.Run](s, "/runs?path="+s.path.String()+"&outcome=done"), 1)
}

// TestRunsOfOneOrderComeInPages: runs of one order share their time, and none is lost.
func TestRunsOfOneOrderComeInPages(t *testing.T) {
	s := serve(t)
	answer, body := s.call("POST", "/api/v1/runs", `{"from":"quay","to":["192.0.2.9","192.0.2.1","192.0.2.2","192.0.2.3","192.0.2.4","192.0.2.5","192.0.2.6"],"probes":1}`)
	require.Equal(t, 202, answer.StatusCode, body)
	// Until they are over: when one ends, it is known when it really began.
	require.Eventually(t, func() bool { return len(get[[]apitype.Run](s, "/runs?outcome=running")) == 0 }, time.Minute, 10*time.Millisecond)
	all := get[[]apitype.Run](s, "/runs?limit=1000")
	require.GreaterOrEqual(t, len(all), 7)
	seen := map[string]bool{}
	next := "/api/v1/runs?limit=3"
	for pages := 0; next != "" && pages < 50; pages++ {
		answer, body := s.call("GET", next, "")
		require.Equal(t, 200, answer.StatusCode, body)
		var runs []apitype.Run
		require.NoError(t, json.Unmarshal([]byte(body), &runs))
		for _, r := range runs {
			assert.False(t, seen[r.ID], "twice")
			seen[r.ID] = true
		}
		next = ""
		if link := answer.Header.Get("Link"); link != "" {
			query, ok := strings.CutSuffix(link, `>; rel="next"`)
			require.True(t, ok, link)
			next = "/api/v1/runs" + strings.TrimPrefix(query, "<")
		}
	}
	assert.Len(t, seen, len(all))
	answer, body = s.call("GET", "/api/v1/runs?before_id="+all[0].ID, "")
	assert.Equal(t, 422, answer.StatusCode, body)
	assert.Contains(t, body, "before_id goes with before_at")
}

func TestSessions(t *testing.T) {
	s := serve(t)
	answer, _ := s.call("POST", "/api/v1/session", `{"token":"`+token+`"}`)
	require.Equal(t, 204, answer.StatusCode)
	value := answer.Cookies()[0].Value
	for _, c := range []struct {
		name, cookie string
		want         int
	}{
		{"as it was given", value, 200},
		{"changed", "9" + value, 401},
		{"made up", strings.Repeat("0", len(value)), 401},
		{"none", "", 401},
	} {
		answer, _ := s.call("GET", "/api/v1/status", "", "Authorization", "", "Cookie", "woodlark_session="+c.cookie)
		assert.Equal(t, c.want, answer.StatusCode, c.name)
	}
	answer, _ = s.call("DELETE", "/api/v1/session", "", "Authorization", "", "Cookie", "woodlark_session="+value)
	assert.Equal(t, -1, answer.Cookies()[0].MaxAge, "signing out ends the cookie")
	answer, _ = s.call("GET", "/api/v1/status", "", "Authorization", "", "Cookie", "woodlark_session="+value)
	assert.Equal(t, 401, answer.StatusCode, "and the session, at the service")
}

func TestTheConsoleIsServed(t *testing.T) {
	s := serve(t)
	for path, says := range map[string]string{"/": "Woodlark", "/paths/123": "Woodlark", "/assets/a.js": "1"} {
		answer, body := s.call("GET", path, "", "Authorization", "")
		assert.Equal(t, 200, answer.StatusCode, path)
		assert.Contains(t, body, says, path)
		assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'self'")
		assert.Equal(t, "nosniff", answer.Header.Get("X-Content-Type-Options"))
	}
	_, body := s.call("GET", "/../../etc/passwd", "")
	assert.NotContains(t, body, "root:", "nothing outside of the console is served")
	answer, _ := s.call("GET", "/api/v2/paths", "")
	assert.Equal(t, 404, answer.StatusCode, "no page of the console hides a wrong call")
}

func TestTheReportOfDegradedPaths(t *testing.T) {
	s := serve(t)
	_, err := s.c.Paths.TakeBaseline(t.Context(), s.path, 3*time.Hour, true)
	require.NoError(t, err)
	end := time.Now().Truncate(time.Minute)
	u := protocol.Upload{Agent: s.c.Fleet.Agents()[0].ID}
	for i := range 12 {
		u.Readings = append(u.Readings, minute(s.path, end.Add(time.Duration(i)*time.Second), 6))
	}
	require.NoError(t, s.c.Upload(t.Context(), u))
	d := get[apitype.Degraded](s, "/degraded?to_at="+url.QueryEscape(end.Add(time.Hour).UTC().Format(time.RFC3339)))
	require.Len(t, d.Now, 1)
	assert.Equal(t, "degraded", d.Now[0].State)
	require.Len(t, d.Now[0].Excesses, 1)
	assert.Equal(t, "loss", d.Now[0].Excesses[0].Measure)
	assert.Equal(t, "ratio", d.Now[0].Excesses[0].Unit)
	assert.Equal(t, "1 of 1 path degraded.", d.Summary)
	assert.Len(t, get[[]apitype.Episode](s, "/paths/"+s.path.String()+"/episodes?to_at="+url.QueryEscape(end.Add(time.Hour).UTC().Format(time.RFC3339))), 1)
	assert.Empty(t, get[[]apitype.Notice](s, "/notices"))
	assert.Len(t, get[[]apitype.Agent](s, "/agents"), 1)
}

func (h worker) Expect(protocol.Ticket) (string, error) { return "203.0.113.26:7474", nil }
