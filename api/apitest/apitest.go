// Package apitest fills the types of questions and answers for tests.
package apitest

import (
	"fmt"
	"reflect"
	"time"
)

// Fill puts values into what v points to in which nothing is zero, so that whatever gets lost on a way is seen to
// be. Texts are made by text, which is given a number that is another one each time; nil makes harmless ones.
func Fill(v any, text func(n int) string) {
	if text == nil {
		text = func(n int) string { return fmt.Sprintf("gate %d \"held\" <&> é\x00", n) }
	}
	(&filler{text: text}).fill(reflect.ValueOf(v).Elem(), 0)
}

type filler struct {
	n    int
	text func(n int) string
}

func (f *filler) fill(v reflect.Value, depth int) {
	f.n++
	switch v.Type() {
	case reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Unix(1_700_000_000+int64(f.n), int64(f.n)*1000).UTC()))
		return
	}
	switch v.Kind() {
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(int64(1 + f.n%5))
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(uint64(1 + f.n%5))
	case reflect.Float32, reflect.Float64:
		v.SetFloat(float64(f.n) + 0.25)
	case reflect.String:
		v.SetString(f.text(f.n))
	case reflect.Slice:
		n := 2
		if depth > 6 {
			n = 0
		}
		v.Set(reflect.MakeSlice(v.Type(), n, n))
		for i := range n {
			f.fill(v.Index(i), depth+1)
		}
	case reflect.Array:
		for i := range v.Len() {
			f.fill(v.Index(i), depth+1)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		for range 2 {
			key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
			f.fill(key, depth+1)
			f.fill(value, depth+1)
			v.SetMapIndex(key, value)
		}
	case reflect.Pointer:
		if depth <= 6 {
			v.Set(reflect.New(v.Type().Elem()))
			f.fill(v.Elem(), depth+1)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				f.fill(v.Field(i), depth+1)
			}
		}
	}
}
