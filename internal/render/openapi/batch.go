package openapi

// batchPath describes several calls in one transaction.
func (d *document) batchPath() object {
	text := object{{"type", "string"}}
	call := object{
		{"type", "object"},
		{"required", []string{"method", "path"}},
		{"properties", object{
			{"method", object{{"type", "string"}, {"enum", []any{"GET", "POST", "PUT", "PATCH", "DELETE"}}}},
			{"path", object{{"type", "string"}, {"description", "Below the base of the service, with its query, such as /hives/7."}}},
			{"headers", object{{"type", "object"}, {"additionalProperties", text}, {"description", "Content-Type, If-Match, If-None-Match and Prefer."}}},
			{"body", object{}},
		}},
		{"additionalProperties", false},
	}
	answer := object{
		{"type", "object"},
		{"required", []string{"status"}},
		{"properties", object{{"status", object{{"type", "integer"}}}, {"headers", object{{"type", "object"}, {"additionalProperties", text}}}, {"body", object{}}}},
		{"additionalProperties", false},
	}
	list := func(name string, items object) object {
		return object{
			{"type", "object"}, {"required", []string{name}},
			{"properties", object{{name, object{{"type", "array"}, {"items", items}}}}}, {"additionalProperties", false},
		}
	}
	return object{{"post", object{
		{"operationId", "batch"},
		{"tags", []string{serviceTag}},
		{"description", "The answers stand in the order of the calls. Where one call fails, none is done, and the problem says which it was."},
		{"summary", "Makes several calls in one transaction: all of them, or none."},
		{"parameters", d.repeatable()},
		{"requestBody", object{{"required", true}, {"content", jsonContent(list("calls", call))}}},
		{"responses", object{
			{"200", object{{"description", "OK"}, {"content", jsonContent(list("answers", answer))}}},
			{"400", object{{"$ref", "#/components/responses/400"}}},
			{"422", object{{"$ref", "#/components/responses/422"}}},
			{"default", object{{"$ref", "#/components/responses/problem"}}},
		}},
	}}}
}
