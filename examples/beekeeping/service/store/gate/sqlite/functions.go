package sqlite

import (
	"errors"
	"math"
	"math/big"
	"strconv"
	"time"

	"github.com/ncruces/go-sqlite3"

	"beekeeping/store/gate"
)

// The functions that this package adds to SQL: what is stored, in the form in
// which it is compared; sums and averages of decimal numbers; and calculations
// with numbers as they are written.
func addFunctions(c *sqlite3.Conn) error {
	const pure = sqlite3.DETERMINISTIC | sqlite3.INNOCUOUS
	return errors.Join(
		c.CreateFunction("gate_shown", 2, pure, func(ctx sqlite3.Context, arg ...sqlite3.Value) {
			setResult(ctx, gate.Shown(gate.Type(arg[1].Int()), valueOf(arg[0])))
		}),
		c.CreateFunction("gate_calculate", 3, pure, func(ctx sqlite3.Context, arg ...sqlite3.Value) {
			calculate(ctx, arg[0].Text(), arg[1], arg[2])
		}),
		c.CreateWindowFunction("gate_sum", 1, pure, func() sqlite3.AggregateFunction { return &total{} }),
		c.CreateWindowFunction("gate_avg", 1, pure, func() sqlite3.AggregateFunction { return &total{average: true} }),
	)
}

func valueOf(v sqlite3.Value) any {
	switch v.Type() {
	case sqlite3.INTEGER:
		return v.Int64()
	case sqlite3.FLOAT:
		return v.Float()
	case sqlite3.TEXT:
		return v.Text()
	case sqlite3.BLOB:
		return v.Blob(nil)
	}
	return nil
}

func setResult(ctx sqlite3.Context, v any) {
	switch v := v.(type) {
	case int64:
		ctx.ResultInt64(v)
	case float64:
		ctx.ResultFloat(v)
	case bool:
		ctx.ResultBool(v)
	case string:
		ctx.ResultText(v)
	case []byte:
		ctx.ResultBlob(v)
	case time.Time:
		ctx.ResultText(v.UTC().Format(timeLayout))
	default:
		ctx.ResultNull()
	}
}

// number is a value as the number that it is written as.
func number(v sqlite3.Value) (*big.Rat, bool) {
	switch v.NumericType() {
	case sqlite3.INTEGER:
		return new(big.Rat).SetInt64(v.Int64()), true
	case sqlite3.FLOAT:
		f := v.Float()
		if math.IsInf(f, 0) || math.IsNaN(f) {
			return nil, false
		}
		return new(big.Rat).SetString(strconv.FormatFloat(f, 'g', -1, 64))
	}
	return nil, false
}

// sendNumber gives a result: a whole number of 64 bits, or the number with a
// fraction that is nearest.
func sendNumber(ctx sqlite3.Context, r *big.Rat) {
	if r.IsInt() {
		if r.Num().IsInt64() {
			ctx.ResultInt64(r.Num().Int64())
			return
		}
		if f, exact := new(big.Float).SetInt(r.Num()).Float64(); exact == big.Exact {
			ctx.ResultFloat(f)
			return
		}
		ctx.ResultError(errors.New(beyondNumbers))
		return
	}
	f, _ := r.Float64()
	ctx.ResultFloat(f)
}

// beyondNumbers is the error of a whole number that SQLite cannot keep.
const beyondNumbers = "gate: a whole number goes beyond 64 bits"

// calculate gives the result of an operator of two numbers; it is NULL where one
// of them is none, or is divided by zero.
func calculate(ctx sqlite3.Context, op string, a, b sqlite3.Value) {
	x, ok1 := number(a)
	y, ok2 := number(b)
	if !ok1 || !ok2 || y.Sign() == 0 && (op == "/" || op == "%" || op == "div") {
		ctx.ResultNull()
		return
	}
	r := new(big.Rat)
	switch op {
	case "+":
		r.Add(x, y)
	case "-":
		r.Sub(x, y)
	case "*":
		r.Mul(x, y)
	case "/":
		r.Quo(x, y)
	case "div":
		r.SetInt(truncated(x, y))
	case "%":
		r.Sub(x, new(big.Rat).Mul(y, new(big.Rat).SetInt(truncated(x, y))))
	default:
		power(ctx, x, y)
		return
	}
	sendNumber(ctx, r)
}

// truncated is the quotient without its fraction.
func truncated(x, y *big.Rat) *big.Int {
	q := new(big.Rat).Quo(x, y)
	return new(big.Int).Quo(q.Num(), q.Denom())
}

// mostPower bounds the powers that are worked out exactly.
const mostPower = 64

func power(ctx sqlite3.Context, x, y *big.Rat) {
	if y.IsInt() && y.Sign() >= 0 && y.Num().IsInt64() && y.Num().Int64() <= mostPower {
		n := y.Num()
		sendNumber(ctx, new(big.Rat).SetFrac(new(big.Int).Exp(x.Num(), n, nil), new(big.Int).Exp(x.Denom(), n, nil)))
		return
	}
	a, _ := x.Float64()
	b, _ := y.Float64()
	if f := math.Pow(a, b); !math.IsNaN(f) && !math.IsInf(f, 0) {
		ctx.ResultFloat(f)
		return
	}
	ctx.ResultNull()
}

// total adds numbers up as they are written, so that 0.1 and 0.2 are 0.3.
type total struct {
	average bool
	sum     big.Rat
	count   int64
}

func (t *total) Step(_ sqlite3.Context, arg ...sqlite3.Value) {
	if r, ok := number(arg[0]); ok {
		t.sum.Add(&t.sum, r)
		t.count++
	}
}

func (t *total) Inverse(_ sqlite3.Context, arg ...sqlite3.Value) {
	if r, ok := number(arg[0]); ok {
		t.sum.Sub(&t.sum, r)
		t.count--
	}
}

// Value gives a sum as text, which keeps all digits, and an average as number.
func (t *total) Value(ctx sqlite3.Context) {
	switch {
	case t.count == 0:
		ctx.ResultNull()
	case t.average:
		f, _ := new(big.Rat).Quo(&t.sum, new(big.Rat).SetInt64(t.count)).Float64()
		ctx.ResultFloat(f)
	default:
		places, _ := t.sum.FloatPrec()
		if t.sum.IsInt() && t.sum.Num().IsInt64() {
			ctx.ResultInt64(t.sum.Num().Int64())
			return
		}
		ctx.ResultText(t.sum.FloatString(places))
	}
}
