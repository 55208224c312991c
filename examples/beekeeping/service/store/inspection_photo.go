// From table inspection_photo. Edits here are kept when it is written again.

package store

import (
	"time"

	"beekeeping/store/gate"
)

// InspectionPhoto is a picture taken at an inspection.
type InspectionPhoto struct {
	ID           int64              `json:"id"`
	InspectionID int64              `json:"inspection_id"`
	TakenAt      time.Time          `json:"taken_at"`
	Caption      gate.Maybe[string] `json:"caption"`
	MediaType    string             `json:"media_type"`
	Photo        []byte             `json:"photo"`

	// Related rows, present when asked for with With.
	Inspection *Inspection `json:"inspection,omitzero"`
}

// InspectionPhotos is the table inspection_photo: its columns, its relations and what can be done with it.
var InspectionPhotos = newInspectionPhotoTable()

type inspectionPhotoTable struct {
	table[*InspectionPhoto, int64]
	ID           *gate.Ordered[*InspectionPhoto, int64]
	InspectionID *gate.Ordered[*InspectionPhoto, int64]
	TakenAt      *gate.Ordered[*InspectionPhoto, time.Time]
	Caption      *gate.NullableText[*InspectionPhoto]
	MediaType    *gate.Text[*InspectionPhoto]
	Photo        *gate.Value[*InspectionPhoto, []byte]

	Inspection *gate.ToOne[*InspectionPhoto, *Inspection]
}

func newInspectionPhotoTable() *inspectionPhotoTable {
	return &inspectionPhotoTable{
		table:        gate.NewTable(inspectionPhotoDef, func(k *int64) []any { return []any{k} }),
		ID:           gate.NewOrdered[int64](inspectionPhotoDef, "id"),
		InspectionID: gate.NewOrdered[int64](inspectionPhotoDef, "inspection_id"),
		TakenAt:      gate.NewOrdered[time.Time](inspectionPhotoDef, "taken_at"),
		Caption:      gate.NewNullableText(inspectionPhotoDef, "caption"),
		MediaType:    gate.NewText(inspectionPhotoDef, "media_type"),
		Photo:        gate.NewValue[[]byte](inspectionPhotoDef, "photo"),

		Inspection: gate.NewToOne(inspectionPhotoDef, inspectionDef, gate.On{{"inspection_id", "id"}}, func(e *InspectionPhoto) **Inspection { return &e.Inspection }),
	}
}

// inspectionPhotoDef describes the table inspection_photo to the runtime.
var inspectionPhotoDef = newInspectionPhotoDef()

func newInspectionPhotoDef() *gate.Def[*InspectionPhoto] {
	return gate.Describe(gate.Spec[*InspectionPhoto]{
		Name: "inspection_photo",
		New:  func() *InspectionPhoto { return new(InspectionPhoto) },
		Fields: []gate.Field[*InspectionPhoto]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *InspectionPhoto) any { return &e.ID }},
			{Name: "inspection_id", Type: gate.TypeInt64, In: func(e *InspectionPhoto) any { return &e.InspectionID }},
			{Name: "taken_at", Type: gate.TypeTimestampTZ, In: func(e *InspectionPhoto) any { return &e.TakenAt }},
			{Name: "caption", Type: gate.TypeText, Flags: gate.Nullable, Max: 200, In: func(e *InspectionPhoto) any { return &e.Caption }},
			{Name: "media_type", Type: gate.TypeText, Flags: gate.HasDefault, Max: 60, Default: "image/png", In: func(e *InspectionPhoto) any { return &e.MediaType }},
			{Name: "photo", Type: gate.TypeBytes, In: func(e *InspectionPhoto) any { return &e.Photo }},
		},
	})
}
