package byhand

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"regexp"
	"strconv"
	"time"
	"unicode/utf8"
)

// Handler serves deliveries as JSON: net/http, one struct for the answers, and
// encoding/json.
func (s *Store) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /deliveries/{id}", s.serveOne)
	mux.HandleFunc("GET /deliveries", s.serveList)
	mux.HandleFunc("GET /deliveries/export", s.serveExport)
	mux.HandleFunc("POST /deliveries", s.servePost(s.InsertStored))
	mux.HandleFunc("POST /deliveries/unread", s.servePost(s.Insert)) // the answer is what was sent
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

// check is what the schema says of the columns.
func (j deliveryJSON) check() error {
	for _, text := range []struct {
		name, value string
		most        int
	}{{"code", j.Code, 20}, {"keeper", j.Keeper, 60}, {"region", j.Region, 40}, {"grade", j.Grade, 10}} {
		if text.value == "" {
			return fmt.Errorf("%s is required", text.name)
		}
		if utf8.RuneCountInString(text.value) > text.most {
			return fmt.Errorf("%s may have %d characters at most", text.name, text.most)
		}
	}
	weight, err := j.WeightKg.Float64()
	switch {
	case err != nil || math.Abs(weight) >= 1e8:
		return fmt.Errorf("weight_kg must be a number of at most 8 digits before the point")
	case j.RecordedAt.IsZero():
		return fmt.Errorf("recorded_at is required")
	case !tagForm.MatchString(j.Tag):
		return fmt.Errorf("tag must be a UUID")
	case len(j.Facts) == 0:
		return fmt.Errorf("facts is required")
	case math.IsNaN(j.Moisture) || math.IsInf(j.Moisture, 0):
		return fmt.Errorf("moisture must be a number")
	}
	return nil
}

var tagForm = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)

func (j deliveryJSON) delivery() (*Delivery, error) {
	if err := j.check(); err != nil {
		return nil, err
	}
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
	sendRow(w, r, http.StatusOK, toJSON(d))
}

// sendRow sends a row with its entity tag, unless the caller has it already.
func sendRow(w http.ResponseWriter, r *http.Request, status int, j deliveryJSON) {
	body, err := json.Marshal(j)
	if err != nil {
		fail(w, err)
		return
	}
	sum := sha256.Sum256(body)
	tag := `"` + base64.RawURLEncoding.EncodeToString(sum[:12]) + `"`
	w.Header().Set("ETag", tag)
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(status)
	w.Write(body)
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

func (s *Store) servePost(insert func(context.Context, *Delivery) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var raw json.RawMessage
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 8<<20)).Decode(&raw); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		if len(raw) > 0 && raw[0] == '[' {
			s.serveMany(w, r, raw)
			return
		}
		var j deliveryJSON
		err := json.Unmarshal(raw, &j)
		if err == nil {
			var d *Delivery
			if d, err = j.delivery(); err == nil {
				if err = insert(r.Context(), d); err != nil {
					fail(w, err)
					return
				}
				w.Header().Set("Location", fmt.Sprintf("/deliveries/%d", d.ID))
				sendRow(w, r, http.StatusCreated, toJSON(d))
				return
			}
		}
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
	}
}

func (s *Store) serveMany(w http.ResponseWriter, r *http.Request, raw []byte) {
	var list []deliveryJSON
	err := json.Unmarshal(raw, &list)
	deliveries, err2 := toDeliveries(list)
	if err = errors.Join(err, err2); err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	if err := s.InsertLoop(r.Context(), deliveries); err != nil {
		fail(w, err)
		return
	}
	for i, d := range deliveries {
		list[i].ID = d.ID
	}
	sendJSON(w, http.StatusCreated, map[string]any{"items": list})
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
