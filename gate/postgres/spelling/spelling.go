// Package spelling is how PostgreSQL writes what engines write differently; see
// gate.Dialect.
package spelling

// Postgres is the dialect.
type Postgres struct{}

func (Postgres) Number(text string) (value any, after string, err error) {
	return text, "::text::numeric", nil
}

func (Postgres) Typed(value any) string {
	switch value.(type) {
	case int64:
		return "::bigint"
	case float64:
		return "::double precision"
	}
	return "::text"
}

func (Postgres) Cast(to string) string { return "::text::" + to }

// Output knows that a cast of inet to text would add the length of the mask.
func (Postgres) Output(cast string) (before, after string) {
	if cast == "inet" {
		return "abbrev(", ")"
	}
	return "", "::text"
}

func (Postgres) Exactly(cast string, _ bool) (before, after string, shown bool) {
	if cast == "" {
		return "", `::text COLLATE "C"`, false
	}
	return "", ` COLLATE "C"`, false
}

func (Postgres) Digits() bool { return true }

func (Postgres) Calculate(op string) (before, between string, guarded, fraction bool) {
	switch op {
	case "+", "-", "*":
		return "(", " " + op + " ", false, false
	case "^":
		return "power(", ", ", false, true
	case "div":
		return "div(", ", ", true, true
	case "%":
		return "mod(", ", ", true, true
	}
	return "(", " " + op + " ", true, true
}

func (Postgres) Fraction() (before, after string)     { return "(", ")::numeric" }
func (Postgres) Quotient() string                     { return " / " }
func (Postgres) Length() string                       { return "length" }
func (Postgres) Aggregate(name string, _ bool) string { return name }

func (Postgres) PathValue(steps []string, _ string) (before, between string, arg any, after string) {
	return "(", "::jsonb #>> ", steps, "::text[])"
}

func (Postgres) PathHas(steps []string, _ string) (before, between string, arg any, after string) {
	return "(", "::jsonb #> ", steps, "::text[]) IS NOT NULL"
}

func (Postgres) Nothing() string  { return "SELECT NULL WHERE 1=0" }
func (Postgres) Defaults() string { return " DEFAULT VALUES" }

func (Postgres) Upsert() (before, after, sentBefore, sentAfter string, keyed bool) {
	return " ON CONFLICT (", ") DO UPDATE SET ", "excluded.", "", true
}

func (Postgres) Literals() bool { return false }
