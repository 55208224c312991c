// Package sqltext is what the SQL dialects of the engines share: finding scripts,
// scanning them, splitting them into statements, and telling whose they are. What is
// particular to an engine is data in its Dialect.
package sqltext

import (
	"cmp"
	"regexp"
	"strings"
)

// Dialect is how an engine writes SQL, as far as it matters without its grammar.
type Dialect struct {
	Name    string // of the engine
	Schemas bool   // names in a database have a schema, and connections a search path

	Quote      string                   // around names that need it
	NameQuotes string                   // all signs that may stand around names
	TextQuotes string                   // signs around texts
	Bare       *regexp.Regexp           // names that need no quotes, but for reserved words
	QuoteName  func(name string) string // quotes a name, where that is more than doubling the quote
	QuoteText  func(text string) string // writes a constant, likewise
	TextType   string                   // the type of any text, in a cast

	Escapes       *Escapes // in texts; nil: a backslash is one
	MarkedEscapes *Escapes // in texts with an E before them; nil: there are none
	DollarTexts   bool     // $tag$ … $tag$

	HashComments   bool     // # begins a comment, and two dashes want a space behind them
	NestedComments bool     // comments stand in comments
	LineEnds       string   // the characters that end a line comment; a newline if empty
	RunComments    []string // begin comments that the engine runs

	Blocks                  bool // bodies of routines and triggers are BEGIN … END, unquoted
	NamedEnds               bool // END IF, END LOOP and the like
	StatementsInParentheses bool // as in rules

	NumberedArgs bool       // arguments are $1, $2 …; else each is ?
	TextCast     string     // behind an expression that is wanted as text, where its own form is not; empty where values come as they are
	Functions    []Function // those that are not as other engines have them; the first that holds counts
	ZeroDivision bool       // to divide by zero is an error; else it gives null
	Loose        bool       // columns hold values of other types than their own
	NaN          bool       // decimal numbers may be NaN
	SecondDigits int        // how many digits of a second are kept where a type names none
	OutVariables bool       // what a procedure gives back is put into variables of the session
	LongText     string     // the type of texts of any length
	ExactSums    bool       // sums and averages of whole numbers are decimal; else numbers of 64 bits
	WideIntegers bool       // a type called integer has 64 bits
	WidestOfMany bool       // min and max of several values give the widest

	MostColumns      int  // of a table or view
	ToldWhole        bool // scripts tell all of a schema, as a server would
	TableTexts       bool // the statement that made a table is kept, with what hangs on it
	OwnedSequences   bool // a column that numbers rows owns a sequence that is named after it
	Follows          bool // what hangs on a table follows it to its new name
	TriggersFollow   bool // triggers follow a column to its new name
	ColumnChecks     bool // a check of a column is called as the column is
	NullableKeys     bool // a primary key does not make its columns mandatory
	ViewOptionsApart bool // scripts do not tell the options of views

	Shell Shell
	Marks []Mark // what its scripts have
}

// MarshalText writes the name.
func (d *Dialect) MarshalText() ([]byte, error) { return []byte(d.Name), nil }

// Escapes are what stands behind a backslash.
type Escapes struct {
	Letters map[byte]string // another sign stands for itself
	Numbers bool            // \u00e9 and \x41 are characters
}

// Shell is what the engine's own client does itself.
type Shell struct {
	Prepare    func(d *Dialect, source string) string // puts spaces over what no server reads; may be nil
	Line       *regexp.Regexp                         // a line that is no part of a statement; may be nil
	Backslash  bool                                   // a backslash begins a command
	Ends       []string                               // words that end a statement where they stand alone on a line
	Delimiters bool                                   // there are lines that change the delimiter
	Includes   *regexp.Regexp                         // commands that run another file
	Commands   *regexp.Regexp                         // commands that do more than change what it shows
	Anywhere   bool                                   // they act within statements too
}

func (d *Dialect) lineEnds() string { return cmp.Or(d.LineEnds, "\n") }

// Quoted is a name in quotes.
func (d *Dialect) Quoted(name string) string {
	if d.QuoteName != nil {
		return d.QuoteName(name)
	}
	return d.Quote + strings.ReplaceAll(name, d.Quote, d.Quote+d.Quote) + d.Quote
}

// Ident is a name as a statement takes it, in quotes only where it must be.
func (d *Dialect) Ident(name string) string {
	if d.Bare.MatchString(name) && !reserved[strings.ToLower(name)] {
		return name
	}
	return d.Quoted(name)
}

// Full is the name of something in a schema, or of none; each part is in quotes.
func (d *Dialect) Full(schema, name string) string {
	if schema == "" {
		return d.Quoted(name)
	}
	return d.Quoted(schema) + "." + d.Quoted(name)
}

// Literal is a text as a constant.
func (d *Dialect) Literal(text string) string {
	if d.QuoteText != nil {
		return d.QuoteText(text)
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

// reserved are words that one of the engines takes for its own where a name
// should stand.
var reserved = func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(`abort accessible action add after all alter analyse analyze and any array as asc asensitive asymmetric attach authorization autoincrement
		before begin between bigint binary blob both by call cascade case cast change char character check collate collation column commit concurrently condition conflict constraint
		continue convert create cross current current_catalog current_date current_role current_schema current_time current_timestamp current_user cursor database databases
		day_hour day_microsecond day_minute day_second dec decimal declare default deferrable deferred delayed delete desc describe detach deterministic distinct distinctrow div do
		double drop dual each else elseif enclosed end escape escaped except exclude exclusive exists exit explain fail false fetch filter first float float4 float8 following for force
		foreign freeze from full fulltext function generated glob grant group grouping groups having high_priority hour_microsecond hour_minute hour_second if ignore ilike immediate in
		index indexed infile initially inner inout insensitive insert instead int int1 int2 int3 int4 int8 integer intersect interval into is isnull iterate join key keys kill last
		lateral leading leave left like limit linear lines load localtime localtimestamp lock long longblob longtext loop low_priority match materialized maxvalue mediumblob mediumint
		mediumtext middleint mod modifies natural no not nothing notnull null nulls numeric of offset on only open optimize option optionally or order others out outer outfile over
		overlaps overlay parse_vcol_expr partition placing plan position pragma preceding precision primary procedure purge query raise range read reads real recursive references regexp reindex release
		rename repeat replace require restrict return returning revoke right rlike rollback row rows row_number rows savepoint schema schemas second_microsecond select sensitive separator
		session_user set show similar smallint some spatial specific sql sqlexception sqlstate sqlwarning ssl starting straight_join symmetric system_user table tablesample temp temporary terminated
		then ties tinyblob tinyint tinytext to trailing transaction trigger true unbounded undo union unique unlock unsigned update usage use user using utc_date utc_time utc_timestamp
		vacuum values varbinary varchar varcharacter variadic varying verbose view virtual when where while window with without write xor year_month zerofill`) {
		words[w] = true
	}
	return words
}()
