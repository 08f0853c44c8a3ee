package api_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
	"woodlark.example/internal/protocol"
)

// filled gives each exported field of a value something that is not nothing.
func filled(r *rand.Rand, v reflect.Value, within ...reflect.Type) {
	if v.Type() == reflect.TypeFor[time.Time]() {
		v.Set(reflect.ValueOf(time.Date(2026, 11, 23, 9, 0, r.IntN(3600), r.IntN(1e9), time.UTC)))
		return
	}
	if v.Type() == reflect.TypeFor[json.RawMessage]() {
		v.SetBytes(fmt.Appendf(nil, `{"gull":%d}`, r.IntN(1000)))
		return
	}
	switch x := v.Addr().Interface().(type) {
	case *acceptance.Ways:
		x.There, x.Back = acceptance.Amount{Value: float64(1 + r.IntN(1e6))}, acceptance.Amount{Value: float64(1 + r.IntN(100)), Unit: acceptance.Percent}
		return
	case *acceptance.Share:
		*x = acceptance.ShareOf(float64(r.IntN(1000)) / 1000)
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if slices.Contains(within, v.Type().Elem()) {
			return // such as the way back, of a way back
		}
		v.Set(reflect.New(v.Type().Elem()))
		filled(r, v.Elem(), within...)
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Tag.Get("json") != "-" {
				filled(r, v.Field(i), append(within, v.Type())...)
			}
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range 2 {
			filled(r, v.Index(i), within...)
		}
	case reflect.Array:
		for i := range v.Len() {
			filled(r, v.Index(i), within...)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		for range 2 {
			key, of := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
			filled(r, key)
			filled(r, of, within...)
			v.SetMapIndex(key, of)
		}
	case reflect.String:
		v.SetString(fmt.Sprintf("gull %d →", r.IntN(1e6)))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Float64, reflect.Float32:
		v.SetFloat(float64(1+r.IntN(1e9)) / 1e5)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(int64(1 + r.IntN(100)))
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(uint64(1 + r.IntN(100)))
	}
}

// TestResultsKeepAllTheirFields: what an agent hands over of each kind is what callers read,
// whatever field it is in.
func TestResultsKeepAllTheirFields(t *testing.T) {
	s := serve(t)
	me := s.joined("pier")
	r := rand.New(rand.NewPCG(14, 3))
	for _, k := range kind.All() {
		if k.Paths {
			continue // its probes are packed: see package reading
		}
		for range 5 {
			result := k.Result()
			filled(r, reflect.ValueOf(result).Elem())
			sent, err := json.Marshal(result)
			require.NoError(t, err)
			back, err := k.ReadResult(k.Version, sent)
			require.NoError(t, err)
			require.Equal(t, result, back, k.Name)
			target := fmt.Sprintf("host%d.example", r.IntN(1e9))
			m := protocol.Made{Run: ident.New(), Kind: k.Name, Version: k.Version, Lane: kind.Lane{Target: target, Family: 4, Via: "icmp"}, Started: time.Now().Add(-time.Minute), Ended: time.Now(), Outcome: protocol.Done, OnDemand: true,
				Figures: kind.FiguresOf(result), Body: sent}
			answer := s.asAgent(http.MethodPost, "/uploads", me.Key, protocol.Upload{Made: []protocol.Made{m}})
			require.Equal(t, http.StatusNoContent, answer.StatusCode, k.Name)
			var run apitype.Run
			s.ask(http.MethodGet, "/runs/"+m.Run.String(), "", http.StatusOK, &run)
			var was, is any
			require.NoError(t, json.Unmarshal(sent, &was))
			require.NoError(t, json.Unmarshal(run.Result, &is))
			delete(was.(map[string]any), "scope") // a column of its own, by which sweeps are compared
			assert.Equal(t, was, is, k.Name)
		}
	}
}
