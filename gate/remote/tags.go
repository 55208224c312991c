package remote

import (
	"reflect"
	"runtime"
	"sync"
	"weak"
)

// tags knows the ETags of rows that were read or stored, as long as somebody has the
// rows.
type tags struct{ known *sync.Map } // of weak.Pointer[byte], strings

// at is where a row is.
func at(row any) *byte { return (*byte)(reflect.ValueOf(row).UnsafePointer()) }

func (t tags) keep(row any, tag string) {
	if tag == "" {
		return
	}
	p := at(row)
	key := weak.Make(p)
	if _, there := t.known.Swap(key, tag); !there {
		runtime.AddCleanup(p, func(key weak.Pointer[byte]) { t.known.Delete(key) }, key)
	}
}

func (t tags) of(row any) string {
	tag, _ := t.known.Load(weak.Make(at(row)))
	text, _ := tag.(string)
	return text
}
