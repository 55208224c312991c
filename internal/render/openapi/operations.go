package openapi

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/model"
	"widegate/internal/project"
)

// operation is one verb of one path.
type operation struct {
	entity     *model.Entity
	tag        string // where there is no entity
	id         string
	summary    string
	parameters []object
	body       object
	good       []answer
	problems   []int // what is likely; everything else is the default
	guarded    bool  // credentials are asked for
}

// answer is what comes back when all is well.
type answer struct {
	status  int
	content object
	headers []string
	shared  string // the response among the components, in place of these
}

func (o operation) object() object {
	if o.entity != nil {
		o.tag = o.entity.Path
	}
	op := object{{"operationId", o.id}, {"tags", []string{o.tag}}, {"summary", o.summary}, {"description", described(o.id)}}
	if len(o.parameters) > 0 {
		op = append(op, member{"parameters", o.parameters})
	}
	if o.body != nil {
		op = append(op, member{"requestBody", o.body})
	}
	var responses object
	for _, a := range o.good {
		responses = append(responses, member{strconv.Itoa(a.status), a.response()})
	}
	if o.guarded {
		o.problems = slices.Insert(slices.Clone(o.problems), 0, http.StatusUnauthorized, http.StatusForbidden)
		slices.Sort(o.problems)
	}
	for _, status := range o.problems {
		responses = append(responses, member{strconv.Itoa(status), object{{"$ref", "#/components/responses/" + strconv.Itoa(status)}}})
	}
	responses = append(responses, member{"default", object{{"$ref", "#/components/responses/problem"}}})
	return append(op, member{"responses", responses})
}

// response is an answer as the document has it.
func (a answer) response() object {
	if a.shared != "" {
		return object{{"$ref", "#/components/responses/" + a.shared}}
	}
	response := object{{"description", http.StatusText(a.status)}}
	if len(a.headers) > 0 {
		var headers object
		for _, name := range a.headers {
			headers = append(headers, member{name, object{{"$ref", "#/components/headers/" + name}}})
		}
		response = append(response, member{"headers", headers})
	}
	if a.content != nil {
		response = append(response, member{"content", a.content})
	}
	return response
}

// sharedResponses are those that are the same for all resources.
func sharedResponses() object {
	item := object{{"type", "object"}, {"additionalProperties", true}}
	groups := object{{"type", "object"}, {"required", []string{"items"}}, {"properties", object{{"items", object{{"type", "array"}, {"items", item}}}}}, {"additionalProperties", false}}
	return object{
		{"304", answer{status: http.StatusNotModified, headers: []string{"ETag"}}.response()},
		{"summary", answer{status: http.StatusOK, content: rowsContent(groups, "application/x-ndjson", "text/csv")}.response()},
	}
}

// shareResponses adds the responses that have rows of a resource: one row, a page of
// them, and what is stored.
func (d *document) shareResponses(e *model.Entity) {
	name := schemaName(e)
	part := object{{"anyOf", []object{ref(name), ref(name + ".part")}}}
	stored := object{{"anyOf", []object{ref(name), ref(name + ".list")}}}
	for _, r := range []struct {
		name   string
		answer answer
	}{
		{name, answer{status: http.StatusOK, content: rowsContent(part, "application/x-ndjson", "text/csv", "application/xml"), headers: []string{"ETag"}}},
		{name + ".list", answer{status: http.StatusOK, content: rowsContent(ref(name+".list"), "application/x-ndjson", "text/csv", "application/xml"), headers: []string{"Link"}}},
		{name + ".new", answer{status: http.StatusCreated, content: jsonContent(stored), headers: []string{"Location", "ETag"}}},
	} {
		d.responses = append(d.responses, member{r.name, r.answer.response()})
	}
}

// shareParameters adds the parameters of a resource: its key, the properties and
// relations that are wanted, and its columns.
func (d *document) shareParameters(e *model.Entity) {
	name := schemaName(e)
	list := slices.Concat(propertiesParameter(e), withParameter(e))
	if len(e.Key) > 0 {
		list = append(list, keyParameter(e, "key"))
	}
	for _, p := range list {
		d.parameters = append(d.parameters, member{name + "-" + p[0].value.(string), p})
	}
	for _, p := range columnParameters(e) {
		d.parameters = append(d.parameters, member{name + "." + asciiName(p[0].value.(string)), p})
	}
}

// choosing are the parameters that choose rows of a resource by its columns.
func choosing(e *model.Entity) []object {
	var names []string
	for _, p := range columnParameters(e) {
		names = append(names, schemaName(e)+"."+asciiName(p[0].value.(string)))
	}
	return shared(names...)
}

// showing are the parameters that say what is wanted of a row.
func showing(e *model.Entity) []object {
	var names []string
	for _, p := range slices.Concat(propertiesParameter(e), withParameter(e)) {
		names = append(names, schemaName(e)+"-"+p[0].value.(string))
	}
	return shared(names...)
}

// keyOf is the parameter of the key of a resource.
func keyOf(e *model.Entity) []object { return shared(schemaName(e) + "-key") }

// descriptions say more about operations, by the verb that their id begins with.
var descriptions = []struct{ verb, text string }{
	{"list", "The answer is a page of rows; `after` leads to the next one. Columns as parameters, `filter` and `q` choose rows, `with` embeds related ones."},
	{"summarize", "`by` makes groups, `measure` says what to tell of each, and `having` chooses among them."},
	{"create", "An object is one row, an array many: all of them are stored, or none. Columns that are left out have their defaults."},
	{"replace", "Columns that are left out have their defaults, or are null. A row that is not there is stored where its key is the caller's to choose."},
	{"change", "What the patch does not speak of stays as it is."},
	{"delete", "Rows that others still refer to are not removed."},
	{"get", "The answer has an ETag, by which later requests say which version they mean."},
	{"link", "Both rows must be there."},
	{"unlink", "The rows themselves stay."},
	{"store", "The body is stored as it is."},
	{"remove", "The row itself stays."},
}

func described(id string) string {
	for _, d := range descriptions {
		if strings.HasPrefix(id, d.verb) {
			return d.text
		}
	}
	return "A call of the database."
}

// problemCases are the problems that the document names, with what they mean.
var problemCases = []struct {
	status int
	text   string
}{
	{http.StatusBadRequest, "The request cannot be read: a parameter is unknown or wrong, or the body is no JSON."},
	{http.StatusUnauthorized, "Credentials are missing or wrong."},
	{http.StatusForbidden, "Those who sent the request may not do this."},
	{http.StatusNotFound, "There is no such row."},
	{http.StatusNotAcceptable, "None of the formats of Accept can be met."},
	{http.StatusConflict, "A value is taken already, or the row is still referred to."},
	{http.StatusPreconditionFailed, "The row has been changed since it was read."},
	{http.StatusRequestEntityTooLarge, "The body is too large."},
	{http.StatusUnsupportedMediaType, "The body has another Content-Type than those listed."},
	{http.StatusUnprocessableEntity, "Values of the body are not right; `errors` has all of them."},
}

func problemResponses(guarded bool) object {
	content := object{{"application/problem+json", object{{"schema", ref("problem")}}}}
	list := object{{"problem", object{{"description", "What went wrong, as RFC 9457 says it."}, {"content", content}}}}
	for _, c := range problemCases {
		if !guarded && (c.status == http.StatusUnauthorized || c.status == http.StatusForbidden) {
			continue
		}
		list = append(list, member{strconv.Itoa(c.status), object{{"description", c.text}, {"content", content}}})
	}
	return list
}

func sharedHeaders() object {
	text := func(description string) object {
		return object{{"description", description}, {"schema", object{{"type", "string"}}}}
	}
	return object{
		{"ETag", text("The version of the row, for If-Match and If-None-Match (RFC 9110).")},
		{"Link", text("The first, the next and the previous page (RFC 8288).")},
		{"Location", text("The path of the new row.")},
	}
}

// sharedParameters are those that mean the same on every path.
func sharedParameters(api *project.API) object {
	text := object{{"type", "string"}}
	most, page := pageLimits(api.Limits)
	in := func(place, name, description string, schema object) object {
		return object{{"name", name}, {"in", place}, {"description", description}, {"schema", schema}}
	}
	list := object{
		{"limit", in("query", "limit", "The most rows to return; `none` exports all, as NDJSON or CSV.",
			object{{"default", page}, {"anyOf", []object{{{"type", "integer"}, {"minimum", 1}, {"maximum", most}}, {{"type", "string"}, {"enum", []any{"none"}}}}}})},
		{"offset", in("query", "offset", "How many rows to skip.", object{{"type", "integer"}, {"minimum", 0}, {"maximum", 100000}, {"default", 0}})},
		{"after", in("query", "after", "The `next` of the page before.", text)},
		{"sortby", in("query", "sortby", "Columns to order by, separated by commas; one with - before it descends. A dot leads to a related row.", text)},
		{"count", in("query", "count", "Whether to count all rows that match.", object{{"type", "boolean"}, {"default", false}})},
		{"filter", in("query", "filter", "A condition in CQL2 (OGC 21-065r2), such as `id >= 10 AND id < 20`. A dot leads to related rows.", text)},
		{"filter-lang", in("query", "filter-lang", "The encoding of the filter.", object{{"type", "string"}, {"enum", []any{"cql2-text", "cql2-json"}}, {"default", "cql2-text"}})},
		{"q", in("query", "q", "Words that all stand somewhere in the texts of a row, in any case.", text)},
		{"f", in("query", "f", "The format of the answer, in place of Accept.", object{{"type", "string"}, {"enum", []any{"json", "ndjson", "csv", "csv-safe", "xml"}}})},
		{"by", in("query", "by", "Properties that make the groups, separated by commas; without a measure, the values that there are.", text)},
		{"measure", in("query", "measure", "What to tell of each group: count, count(x), distinct(x), sum(x), avg(x), min(x) or max(x), separated by commas.", text)},
		{"having", in("query", "having", "A condition in CQL2 on the measures, such as `count > 3 AND sum_frames > 20`.", text)},
		{"if-match", in("header", "If-Match", "The ETag of the row as it was read: it is changed only if nobody else did.", text)},
		{"if-none-match", in("header", "If-None-Match", "An ETag that is known already: the answer is then 304.", text)},
		{"range", in("header", "Range", "The part that is wanted, such as `bytes=0-1023` (RFC 9110).", text)},
		{"prefer", in("header", "Prefer", "`return=minimal` leaves the stored row out of the answer (RFC 7240).", text)},
	}
	if api.Repeats != "" {
		list = append(list, member{"idempotency-key", in("header", "Idempotency-Key", "A request is done once, however often it is sent with the same key; later ones have the first answer.", object{{"type", "string"}, {"maxLength", 255}})})
	}
	return list
}

// repeatable are the parameters of what is done once for a key.
func (d *document) repeatable(names ...string) []object {
	if d.model.API.Repeats != "" {
		names = append(names, "idempotency-key")
	}
	return shared(names...)
}

// pageLimits are the most rows of a page, and how many there are where a request
// does not say.
func pageLimits(l *project.Limits) (most, page int) {
	most, page = 1000, 50
	if l != nil && l.Rows > 0 {
		most = l.Rows
	}
	if l != nil && l.Page > 0 {
		page = l.Page
	}
	return most, min(page, most)
}

func shared(names ...string) []object {
	list := make([]object, len(names))
	for i, name := range names {
		list[i] = object{{"$ref", "#/components/parameters/" + name}}
	}
	return list
}

func jsonContent(schema object) object {
	return object{{"application/json", object{{"schema", schema}}}}
}

// rowsContent is a schema of rows in JSON, and their other formats.
func rowsContent(schema object, formats ...string) object {
	content := jsonContent(schema)
	for _, media := range formats {
		content = append(content, member{media, object{{"schema", object{{"type", "string"}}}}})
	}
	return content
}

func (d *document) collection(e *model.Entity) object {
	ops := object{{"get", d.listing(e, e, "list"+e.Plural, "Lists "+e.Path+".", http.StatusBadRequest, http.StatusNotAcceptable)}}
	if e.Verbs == model.ReadOnly {
		return ops
	}
	ops = append(ops, member{"post", d.creation(e, e, "create"+e.Plural, "Stores "+e.Article+", or many of them.", d.newSchema(e, nil), d.example(e, nil))})
	if e.Bulk == 0 {
		return ops
	}
	choice := slices.Concat(shared("filter", "filter-lang", "q"), choosing(e))
	counted := []answer{{status: http.StatusOK, content: jsonContent(countSchema)}}
	change := ref(schemaName(e) + ".change")
	return append(ops,
		member{"patch", operation{
			guarded: d.model.API.Guarded(), entity: e, id: "change" + e.Plural, summary: fmt.Sprintf("Changes all %s that the request chooses, %d at most, by a merge patch (RFC 7396).", e.Path, e.Bulk),
			parameters: choice, good: counted,
			body: object{{"required", true}, {"content", object{
				{"application/merge-patch+json", object{{"schema", change}}},
				{"application/json", object{{"schema", change}}},
			}}},
			problems: []int{http.StatusBadRequest, http.StatusConflict, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity},
		}.object()},
		member{"delete", operation{
			guarded: d.model.API.Guarded(), entity: e, id: "delete" + e.Plural, summary: fmt.Sprintf("Removes all %s that the request chooses, %d at most.", e.Path, e.Bulk),
			parameters: choice, good: counted, problems: []int{http.StatusBadRequest, http.StatusConflict},
		}.object()},
	)
}

// countSchema is the number of rows that a request touched.
var countSchema = object{{"type", "object"}, {"required", []string{"count"}}, {"properties", object{{"count", object{{"type", "integer"}, {"minimum", 0}}}}}, {"additionalProperties", false}}

// content is the path of a binary column.
func (d *document) content(e *model.Entity, f *model.Field) object {
	media, words := f.Content.Media, strings.ReplaceAll(f.Column.Name, "_", " ")
	if media == "" {
		media = "*/*"
	}
	content := object{{media, object{{"schema", object{}}}}}
	problems := []int{http.StatusNotFound, http.StatusPreconditionFailed}
	ops := object{
		{"parameters", keyOf(e)},
		{"get", operation{
			guarded: d.model.API.Guarded(), entity: e, id: d.id("get", e, f.Name+"Content"), summary: fmt.Sprintf("Returns the %s of %s as it is.", words, e.Article), parameters: shared("if-none-match", "range"),
			good: []answer{
				{status: http.StatusOK, content: content, headers: []string{"ETag"}}, {status: http.StatusPartialContent, content: content, headers: []string{"ETag"}},
				{status: http.StatusNotModified, shared: "304"},
			},
			problems: []int{http.StatusNotFound},
		}.object()},
	}
	if e.Verbs != model.Full {
		return ops
	}
	silent := answer{status: http.StatusNoContent}
	summary := fmt.Sprintf("Stores the %s of %s.", words, e.Article)
	if f.Content.Most > 0 {
		summary = fmt.Sprintf("Stores the %s of %s, of %d bytes at most.", words, e.Article, f.Content.Most)
	}
	ops = append(ops, member{"put", operation{
		guarded: d.model.API.Guarded(), entity: e, id: d.id("store", e, f.Name+"Content"), summary: summary, parameters: shared("if-match", "if-none-match"),
		body: object{{"required", true}, {"content", content}}, good: []answer{{status: http.StatusNoContent, headers: []string{"ETag"}}},
		problems: append(slices.Clone(problems), http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType),
	}.object()})
	if !f.Nullable {
		return ops
	}
	return append(ops, member{"delete", operation{
		guarded: d.model.API.Guarded(), entity: e, id: d.id("remove", e, f.Name+"Content"), summary: fmt.Sprintf("Empties the %s of %s.", words, e.Article), parameters: shared("if-match"),
		good: []answer{silent}, problems: problems,
	}.object()})
}

// listing reads rows of a resource, on a path of one.
func (d *document) listing(on, of *model.Entity, id, summary string, problems ...int) object {
	return operation{
		guarded: d.model.API.Guarded(), entity: on, id: id, summary: summary, problems: problems,
		parameters: slices.Concat(shared("limit", "offset", "after", "sortby", "count", "filter", "filter-lang", "q", "f"),
			showing(of), choosing(of)),
		good: []answer{{status: http.StatusOK, shared: schemaName(of) + ".list"}},
	}.object()
}

// creation stores rows of a resource, on a path of one.
func (d *document) creation(on, of *model.Entity, id, summary, schema string, example object) object {
	one := ref(schema)
	content := object{{"application/json", object{
		{"schema", object{{"anyOf", []object{one, {{"type", "array"}, {"items", one}}}}}},
		{"examples", object{{"one", object{{"value", example}}}}},
	}}}
	for _, media := range []string{"application/x-ndjson", "text/csv"} {
		content = append(content, member{media, object{{"schema", object{{"type", "string"}}}}})
	}
	return operation{
		guarded: d.model.API.Guarded(), entity: on, id: id, summary: summary, parameters: d.repeatable("prefer"),
		body:     object{{"required", true}, {"content", content}},
		good:     []answer{{status: http.StatusCreated, shared: schemaName(of) + ".new"}},
		problems: []int{http.StatusBadRequest, http.StatusConflict, http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity},
	}.object()
}

func (d *document) summary(e *model.Entity) object {
	most, page := pageLimits(d.model.API.Limits)
	limits := shared("offset", "by", "measure", "having", "sortby", "filter", "filter-lang", "q", "f")
	limits = append(limits, query("limit", "The most groups to return.", object{{"type", "integer"}, {"minimum", 1}, {"maximum", most}, {"default", page}}))
	return object{{"get", operation{
		guarded: d.model.API.Guarded(), entity: e, id: "summarize" + e.Plural, summary: "Counts, sums and the like of " + e.Path + ", in groups.",
		parameters: append(limits, choosing(e)...),
		good:       []answer{{status: http.StatusOK, shared: "summary"}},
		problems:   []int{http.StatusBadRequest, http.StatusNotAcceptable},
	}.object()}}
}

// reading returns one row of a resource, on a path of one.
func (d *document) reading(on, of *model.Entity, id, summary string) object {
	return operation{
		guarded: d.model.API.Guarded(), entity: on, id: id, summary: summary, parameters: slices.Concat(shared("f", "if-none-match"), showing(of)),
		good: []answer{
			{status: http.StatusOK, shared: schemaName(of)},
			{status: http.StatusNotModified, shared: "304"},
		},
		problems: []int{http.StatusBadRequest, http.StatusNotFound, http.StatusNotAcceptable},
	}.object()
}

func (d *document) row(e *model.Entity) object {
	ops := object{
		{"parameters", keyOf(e)},
		{"get", d.reading(e, e, "get"+e.Name, "Returns "+e.Article+".")},
	}
	if e.Verbs != model.Full {
		return ops
	}
	stored := answer{status: http.StatusOK, content: jsonContent(ref(schemaName(e))), headers: []string{"ETag"}}
	created := answer{status: http.StatusCreated, content: jsonContent(ref(schemaName(e))), headers: []string{"Location", "ETag"}}
	silent := answer{status: http.StatusNoContent}
	problems := []int{
		http.StatusBadRequest, http.StatusNotFound, http.StatusConflict, http.StatusPreconditionFailed, http.StatusRequestEntityTooLarge,
		http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity,
	}
	change := ref(schemaName(e) + ".change")
	return append(ops,
		member{"put", operation{
			guarded: d.model.API.Guarded(), entity: e, id: "replace" + e.Name, summary: "Replaces " + e.Article + ".", parameters: shared("if-match", "if-none-match", "prefer"),
			body: object{{"required", true}, {"content", jsonContent(ref(schemaName(e) + ".new"))}}, good: []answer{stored, created, silent}, problems: problems,
		}.object()},
		member{"patch", operation{
			guarded: d.model.API.Guarded(), entity: e, id: "change" + e.Name, summary: "Changes " + e.Article + " by a merge patch (RFC 7396) or a JSON patch (RFC 6902).", parameters: shared("if-match", "prefer"),
			body: object{{"required", true}, {"content", object{
				{"application/merge-patch+json", object{{"schema", change}}},
				{"application/json", object{{"schema", change}}},
				{"application/json-patch+json", object{{"schema", ref("patch")}}},
			}}},
			good: []answer{stored, silent}, problems: problems,
		}.object()},
		member{"delete", operation{
			guarded: d.model.API.Guarded(), entity: e, id: "delete" + e.Name, summary: "Removes " + e.Article + ".", parameters: shared("if-match"),
			good: []answer{silent}, problems: []int{http.StatusNotFound, http.StatusConflict, http.StatusPreconditionFailed},
		}.object()},
	)
}

func (d *document) addRelation(e *model.Entity, r *model.Relation, at string) {
	key := member{"parameters", keyOf(e)}
	words := strings.ReplaceAll(r.JSON, "_", " ")
	if r.Kind == model.ToOne {
		d.paths = append(d.paths, member{at, object{key, {"get", d.reading(e, r.To, d.id("get", e, r.Name), fmt.Sprintf("Returns the %s of %s.", words, e.Article))}}})
		return
	}
	ops := object{key, {"get", d.listing(e, r.To, d.id("list", e, r.Name), fmt.Sprintf("Lists the %s of %s.", words, e.Article), http.StatusBadRequest, http.StatusNotFound, http.StatusNotAcceptable)}}
	if r.Reverse() && r.To.Verbs != model.ReadOnly {
		given := r.Given()
		ops = append(ops, member{"post", d.creation(e, r.To, d.id("create", e, r.Name), fmt.Sprintf("Stores %s that refers to the %s, or many of them.", r.To.Article, e.Words), d.newSchema(r.To, given), d.example(r.To, given))})
	}
	d.paths = append(d.paths, member{at, ops})
	if r.Linkable() {
		d.paths = append(d.paths, member{at + "/{other}", object{
			{"parameters", append(keyOf(e), keyParameter(r.To, "other"))},
			{"put", operation{guarded: d.model.API.Guarded(), entity: e, id: d.id("link", e, r.Name), summary: "Links two rows; they may be linked already.", good: []answer{{status: http.StatusNoContent}}, problems: []int{http.StatusNotFound}}.object()},
			{"delete", operation{guarded: d.model.API.Guarded(), entity: e, id: d.id("unlink", e, r.Name), summary: "Ends the link of two rows; there may be none.", good: []answer{{status: http.StatusNoContent}}, problems: []int{http.StatusNotFound}}.object()},
		}})
	}
}

func keyParameter(e *model.Entity, name string) object {
	columns := make([]string, len(e.Key))
	for i, f := range e.Key {
		columns[i] = f.Column.Name
	}
	schema := object{{"type", "string"}}
	if len(e.Key) == 1 {
		schema = valueSchema(e.Key[0])
	}
	description := "The key of " + e.Article + ": " + strings.Join(columns, ",") + "."
	return object{{"name", name}, {"in", "path"}, {"required", true}, {"description", description}, {"schema", schema}}
}

func query(name, description string, schema object) object {
	return object{{"name", name}, {"in", "query"}, {"description", description}, {"schema", schema}}
}

// columnParameters are columns as parameters, for equality.
func columnParameters(e *model.Entity) []object {
	var list []object
	for _, f := range visible(e) {
		switch f.Kind {
		case model.KindJSON, model.KindBytes, model.KindList, model.KindRange, model.KindRecord:
			continue
		}
		if f.Opaque {
			continue
		}
		if slices.Contains([]string{"limit", "offset", "after", "sortby", "count", "filter", "filter-lang", "q", "f", "by", "measure", "having", "with", "properties"}, f.Column.Name) {
			continue // whose meaning the parameter has
		}
		p := query(f.Column.Name, "Only rows with this value, or one of several.", object{{"type", "array"}, {"items", valueSchema(f)}})
		list = append(list, append(p, member{"explode", true}))
	}
	return list
}

func propertiesParameter(e *model.Entity) []object {
	var names []any
	for _, f := range visible(e) {
		names = append(names, f.Column.Name)
	}
	if len(names) == 0 {
		return nil
	}
	schema := object{{"type", "array"}, {"items", object{{"type", "string"}, {"enum", names}}}}
	return []object{append(query("properties", "The properties to return, separated by commas.", schema), member{"explode", false})}
}

func withParameter(e *model.Entity) []object {
	if len(e.Relations) == 0 {
		return nil
	}
	names := make([]string, len(e.Relations))
	for i, r := range e.Relations {
		names[i] = r.JSON
	}
	schema := object{{"type", "array"}, {"items", object{{"type", "string"}, {"examples", names}}}} // one a line, so that edits beside them merge
	description := "Relations to embed, separated by commas; a dot leads on. Those to several rows take bounds, as in `" + names[len(names)-1] + "(limit:5;sortby:-id;filter:id > 5)`."
	return []object{append(query("with", description, schema), member{"explode", false})}
}
