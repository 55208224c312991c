package gate

// Dialect is how an engine writes what engines write differently. Where a method gives
// two texts, they stand around something.
type Dialect interface {
	// Number is how a number with a fraction is bound, and what stands behind it.
	Number(text string) (value any, after string, err error)
	// Typed stands behind a bound value whose type the engine could not tell: an int64,
	// a float64 or a string.
	Typed(value any) string
	// Cast stands behind a bound text for a column that takes none without.
	Cast(to string) string
	// Output is a column that is selected; cast is what its type is called where it is
	// wanted as text.
	Output(cast string) (before, after string)
	// Exactly is an output by its text, byte for byte; several says that it has parts.
	// Where shown, the form that the program sees is compared.
	Exactly(cast string, several bool) (before, after string, shown bool)
	// Digits reports whether numbers that are equal may have different digits, such as
	// 1.0 and 1.00.
	Digits() bool

	// Calculate is what stands before and between two operands of + - * / % ^ or div; a
	// parenthesis closes it. Guarded says that a divisor of zero must give NULL, and
	// fraction that whole numbers would be divided as such.
	Calculate(op string) (before, between string, guarded, fraction bool)
	// Fraction makes a number one with a fraction.
	Fraction() (before, after string)
	Quotient() string // the operator of whole quotients of whole numbers
	Length() string   // the function that counts the characters of a text
	// Aggregate is the function of an aggregate of numbers, which may be decimal.
	Aggregate(name string, decimal bool) string

	// PathValue is the text of what lies at a path of a document, PathHas whether
	// something does. The path is given by its steps, and as $."name"[0].
	PathValue(steps []string, path string) (before, between string, arg any, after string)
	PathHas(steps []string, path string) (before, between string, arg any, after string)

	Nothing() string  // selects one NULL, and no row
	Defaults() string // stands behind the table of an insert that sends nothing
	// Upsert turns an insert into an update: what stands before and, where the columns
	// of a key are named, behind these; and around a column whose value was sent.
	Upsert() (before, after, sentBefore, sentAfter string, keyed bool)
	// Literals reports whether long lists are written as constants, since arguments
	// cost more than they save.
	Literals() bool
}
