package byhand

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"time"
)

// Handler serves deliveries as JSON: net/http, one struct for the answers, and
// encoding/json.
func (s *Store) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /deliveries/{id}", s.serveOne)
	mux.HandleFunc("GET /deliveries", s.serveList)
	mux.HandleFunc("GET /deliveries/export", s.serveExport)
	mux.HandleFunc("POST /deliveries", s.servePost)
	return mux
}

// deliveryJSON is a delivery as it is sent.
type deliveryJSON struct {
	ID          int64           `json:"id"`
	Code        string          `json:"code"`
	Keeper      string          `json:"keeper"`
	Remark      *string         `json:"remark"`
	WeightKg    json.Number     `json:"weight_kg"`
	IsAccepted  bool            `json:"is_accepted"`
	DeliveredOn string          `json:"delivered_on"`
	RecordedAt  time.Time       `json:"recorded_at"`
	PreviousID  *int64          `json:"previous_id"`
	Tag         string          `json:"tag"`
	Facts       json.RawMessage `json:"facts"`
	Moisture    float64         `json:"moisture"`
	Region      string          `json:"region"`
	Grade       string          `json:"grade"`
	Samples     []sampleJSON    `json:"samples,omitempty"`
}

type sampleJSON struct {
	ID         int64     `json:"id"`
	DeliveryID int64     `json:"delivery_id"`
	TakenAt    time.Time `json:"taken_at"`
	Value      float64   `json:"value"`
	Note       *string   `json:"note"`
}

func toJSON(d *Delivery) deliveryJSON {
	j := deliveryJSON{
		ID: d.ID, Code: d.Code, Keeper: d.Keeper, Remark: d.Remark, WeightKg: json.Number(d.WeightKg), IsAccepted: d.IsAccepted,
		DeliveredOn: d.DeliveredOn.Format(time.DateOnly), RecordedAt: d.RecordedAt, PreviousID: d.PreviousID, Tag: d.Tag, Facts: d.Facts,
		Moisture: d.Moisture, Region: d.Region, Grade: d.Grade,
	}
	for _, m := range d.Samples {
		j.Samples = append(j.Samples, sampleJSON{m.ID, m.DeliveryID, m.TakenAt, m.Value, m.Note})
	}
	return j
}

func (j deliveryJSON) delivery() (*Delivery, error) {
	on, err := time.Parse(time.DateOnly, j.DeliveredOn)
	if err != nil {
		return nil, err
	}
	return &Delivery{
		Code: j.Code, Keeper: j.Keeper, Remark: j.Remark, WeightKg: j.WeightKg.String(), IsAccepted: j.IsAccepted, DeliveredOn: on,
		RecordedAt: j.RecordedAt, PreviousID: j.PreviousID, Tag: j.Tag, Facts: j.Facts, Moisture: j.Moisture, Region: j.Region, Grade: j.Grade,
	}, nil
}

func sendJSON(w http.ResponseWriter, status int, v any) {
	var b bytes.Buffer
	if err := json.NewEncoder(&b).Encode(v); err != nil {
		fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Length", strconv.Itoa(b.Len()))
	w.WriteHeader(status)
	w.Write(b.Bytes())
}

func fail(w http.ResponseWriter, err error) {
	status := http.StatusInternalServerError
	if errors.Is(err, sql.ErrNoRows) {
		status = http.StatusNotFound
	}
	slog.Error("request failed", "error", err)
	http.Error(w, http.StatusText(status), status)
}

func (s *Store) serveOne(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
	if err != nil {
		http.Error(w, "the id is no number", http.StatusBadRequest)
		return
	}
	d, err := s.Find(r.Context(), id)
	if err != nil {
		fail(w, err)
		return
	}
	sendJSON(w, http.StatusOK, toJSON(d))
}

func (s *Store) serveList(w http.ResponseWriter, r *http.Request) {
	values := r.URL.Query()
	from, err := strconv.ParseInt(values.Get("from"), 10, 64)
	limit, err2 := strconv.Atoi(values.Get("limit"))
	if err = errors.Join(err, err2); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	list := s.List
	if values.Get("with") == "samples" {
		list = s.ListWithSamples
	}
	deliveries, err := list(r.Context(), from, limit)
	if err != nil {
		fail(w, err)
		return
	}
	page := struct {
		Items []deliveryJSON `json:"items"`
	}{make([]deliveryJSON, len(deliveries))}
	for i, d := range deliveries {
		page.Items[i] = toJSON(d)
	}
	sendJSON(w, http.StatusOK, page)
}

func (s *Store) serveExport(w http.ResponseWriter, r *http.Request) {
	rows, err := s.db.QueryContext(r.Context(), "SELECT "+columns+" FROM delivery ORDER BY id")
	if err != nil {
		fail(w, err)
		return
	}
	defer rows.Close()
	w.Header().Set("Content-Type", "application/x-ndjson")
	enc := json.NewEncoder(w)
	for rows.Next() {
		var d Delivery
		if err := scan(rows, &d); err != nil {
			panic(http.ErrAbortHandler)
		}
		if enc.Encode(toJSON(&d)) != nil {
			return
		}
	}
	if rows.Err() != nil {
		panic(http.ErrAbortHandler)
	}
}

func (s *Store) servePost(w http.ResponseWriter, r *http.Request) {
	var raw json.RawMessage
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 8<<20)).Decode(&raw); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	many := len(raw) > 0 && raw[0] == '['
	list := make([]deliveryJSON, 1)
	var err error
	if many {
		err = json.Unmarshal(raw, &list)
	} else {
		err = json.Unmarshal(raw, &list[0])
	}
	deliveries, err2 := toDeliveries(list)
	if err = errors.Join(err, err2); err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	if err := s.store(r.Context(), deliveries); err != nil {
		fail(w, err)
		return
	}
	for i, d := range deliveries {
		list[i].ID = d.ID
	}
	if many {
		sendJSON(w, http.StatusCreated, map[string]any{"items": list})
		return
	}
	w.Header().Set("Location", fmt.Sprintf("/deliveries/%d", list[0].ID))
	sendJSON(w, http.StatusCreated, list[0])
}

func toDeliveries(list []deliveryJSON) ([]*Delivery, error) {
	deliveries := make([]*Delivery, len(list))
	for i, j := range list {
		var err error
		if deliveries[i], err = j.delivery(); err != nil {
			return nil, err
		}
	}
	return deliveries, nil
}

func (s *Store) store(ctx context.Context, list []*Delivery) error {
	if len(list) == 1 {
		return s.Insert(ctx, list[0])
	}
	return s.InsertLoop(ctx, list)
}
