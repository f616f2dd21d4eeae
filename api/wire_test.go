package api_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/api/apitest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is asked and what is answered is over the wire what it was at the desk: no field is lost, and none stands
// under the name of another.
func TestNothingIsLostOnTheWire(t *testing.T) {
	for _, x := range []any{
		api.ViewQuery{}, api.View{}, api.DetailQuery{}, api.Detail{}, api.SourcesView{}, api.NewsQuery{}, api.News{},
		api.RulesView{}, api.EntriesQuery{}, api.Entries{}, api.FindQuery{}, api.Found{}, api.WhyQuery{}, api.Why{},
		api.CurveQuery{}, api.Curves{}, api.TurnQuery{}, api.Turn{}, api.HushList{}, api.ContactList{}, api.Status{},
		api.ShiftQuery{}, api.Shift{}, api.PastQuery{}, api.PastPuts{}, api.Here{}, api.LedgerQuery{}, api.LedgerView{},
		api.Inside{}, api.LedgerOut{}, api.LedgerEdit{}, api.LedgerText{}, api.ReportList{}, api.ReportQuery{},
		api.DeliveryList{}, api.MeasureList{}, api.KeepList{}, api.BenchQuery{}, api.BenchView{}, api.BenchOthers{},
		api.PutQuery{}, api.Put{}, api.MarkQuery{}, api.Marked{}, api.Drafts{}, api.BenchFile{}, api.WriteQuery{},
		api.Written{}, api.ActQuery{}, api.ActDone{}, api.ClearQuery{}, api.TestQuery{}, api.Tested{}, api.BringQuery{},
		api.Brought{}, api.BeginQuery{}, api.Begun{}, api.FieldsQuery{}, api.FieldsView{}, api.Problem{},
	} {
		typ := reflect.TypeOf(x)
		t.Run(typ.Name(), func(t *testing.T) {
			sent := reflect.New(typ)
			apitest.Fill(sent.Interface(), nil)
			b, err := json.Marshal(sent.Interface())
			require.NoError(t, err)
			got := reflect.New(typ)
			require.NoError(t, json.Unmarshal(b, got.Interface()))
			again, err := json.Marshal(got.Interface())
			require.NoError(t, err)
			assert.JSONEq(t, string(b), string(again))
			for _, path := range differ(sent.Elem(), got.Elem(), typ.Name()) {
				assert.Fail(t, "it is lost on the wire", path)
			}
		})
	}
}

// differ are the paths at which two values differ.
func differ(a, b reflect.Value, path string) []string {
	if a.Type() == reflect.TypeFor[time.Time]() {
		if !a.Interface().(time.Time).Equal(b.Interface().(time.Time)) {
			return []string{path}
		}
		return nil
	}
	switch a.Kind() {
	case reflect.Struct:
		var out []string
		for i := range a.NumField() {
			if f := a.Type().Field(i); f.IsExported() {
				out = append(out, differ(a.Field(i), b.Field(i), path+"."+f.Name)...)
			}
		}
		return out
	case reflect.Pointer:
		if a.IsNil() || b.IsNil() {
			if a.IsNil() != b.IsNil() {
				return []string{path}
			}
			return nil
		}
		return differ(a.Elem(), b.Elem(), path)
	case reflect.Slice, reflect.Array:
		if a.Len() != b.Len() {
			return []string{path}
		}
		var out []string
		for i := range a.Len() {
			out = append(out, differ(a.Index(i), b.Index(i), fmt.Sprintf("%s[%d]", path, i))...)
		}
		return out
	case reflect.Map:
		if a.Len() != b.Len() {
			return []string{path}
		}
		return nil
	}
	if !reflect.DeepEqual(a.Interface(), b.Interface()) {
		return []string{path}
	}
	return nil
}
