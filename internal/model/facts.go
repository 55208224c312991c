package model

import (
	"regexp"

	"widegate/gate"
)

// kindTypes are what the runtime calls the kinds of fields.
var kindTypes = map[Kind]gate.Type{
	KindInt16: gate.TypeInt16, KindInt32: gate.TypeInt32, KindInt64: gate.TypeInt64, KindUint64: gate.TypeUint64,
	KindFloat32: gate.TypeFloat32, KindFloat64: gate.TypeFloat64, KindNumeric: gate.TypeNumeric, KindBool: gate.TypeBool,
	KindText: gate.TypeText, KindBytes: gate.TypeBytes, KindDate: gate.TypeDate, KindTimestamp: gate.TypeTimestamp,
	KindTimestampTZ: gate.TypeTimestampTZ, KindUUID: gate.TypeUUID, KindJSON: gate.TypeJSON, KindEnum: gate.TypeEnum,
	KindTimeOfDay: gate.TypeTimeOfDay, KindInterval: gate.TypeInterval, KindList: gate.TypeList, KindRange: gate.TypeRange,
	KindRecord: gate.TypeRecord, KindOther: gate.TypeOther,
}

// Facts are what the runtime is told of a column.
func (m *Model) Facts(f *Field) gate.Column {
	t := f.Column.Type
	c := gate.Column{
		Name: f.Column.Name, Type: kindTypes[f.Kind], Flags: f.flags(),
		Least: f.Limits.Least, Most: f.Limits.Most, Above: f.Limits.Above, Below: f.Limits.Below, Default: f.Constant,
	}
	switch f.Kind {
	case KindText, KindBytes:
		c.Max = max(t.Size, 0)
	case KindNumeric:
		c.Precision, c.Scale = max(t.Precision, 0), max(t.Scale, 0)
	case KindEnum:
		for _, l := range f.Enum.Labels {
			c.Labels = append(c.Labels, l.Text)
		}
	}
	if f.Set != nil {
		for _, l := range f.Set.Labels {
			c.Labels = append(c.Labels, l.Text)
		}
	}
	switch f.Kind {
	case KindTimestamp, KindTimestampTZ, KindTimeOfDay:
		if c.Scale = m.secondDigits(f); c.Scale == 0 {
			c.Flags |= gate.WholeSeconds
		} else if c.Scale == mostSecondDigits {
			c.Scale = 0
		}
	}
	if m.dialect.TextCast != "" && f.AsText() {
		c.Cast = f.Column.Declared // which the engine needs to take a text for the column
	}
	return c
}

// mostSecondDigits is how many digits of a second the engines keep at most.
const mostSecondDigits = 6

var declaredDigits = regexp.MustCompile(`^(?i:timestamp|timestamptz|datetime|time|timetz) ?\(([0-6])\)`)

// secondDigits is how many digits of a second a column keeps.
func (m *Model) secondDigits(f *Field) int {
	if m.dialect.Loose || f.Column.Declared == "" {
		return mostSecondDigits
	}
	if found := declaredDigits.FindStringSubmatch(f.Column.Declared); found != nil {
		return int(found[1][0] - '0')
	}
	return m.dialect.SecondDigits
}

func (f *Field) flags() gate.Flag {
	var flags gate.Flag
	for _, flag := range []struct {
		set  bool
		flag gate.Flag
	}{
		{f.InKey, gate.Key},
		{f.Auto, gate.Auto},
		{f.ByDefault && !f.Auto, gate.HasDefault},
		{f.Computed, gate.Generated},
		{f.Nullable, gate.Nullable},
		{f.Hidden, gate.Hidden},
		{f.Opaque, gate.Opaque},
		{f.Role == CreatedRole, gate.CreatedAt},
		{f.Role == UpdatedRole, gate.UpdatedAt},
		{f.Role == DeletedRole, gate.DeletedAt},
		{f.Role == VersionRole, gate.Version},
	} {
		if flag.set {
			flags |= flag.flag
		}
	}
	return flags
}
