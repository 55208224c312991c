package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

func TestTranslate(t *testing.T) {
	for name, c := range map[string]struct {
		err  pgconn.PgError
		want gate.ConstraintError
	}{
		"unique": {pgconn.PgError{Code: uniqueViolation, ConstraintName: "k", TableName: "hive", Detail: `Key (apiary_id, "Odd ""Name")=(1, x) already exists.`},
			gate.ConstraintError{Kind: gate.UniqueBroken, Name: "k", Table: "hive", Columns: []string{"apiary_id", `Odd "Name`}}},
		"unique, in another language": {pgconn.PgError{Code: uniqueViolation, ConstraintName: "k", Detail: "Schlüssel »(a)=(1)« existiert bereits."},
			gate.ConstraintError{Kind: gate.UniqueBroken, Name: "k"}},
		"reference": {pgconn.PgError{Code: foreignKeyViolation, Message: "insert or update on table", TableName: "hive", Detail: `Key (apiary_id)=(9) is not present in table "apiary".`},
			gate.ConstraintError{Kind: gate.ReferenceBroken, Table: "hive", Columns: []string{"apiary_id"}}},
		"referenced": {pgconn.PgError{Code: foreignKeyViolation, Message: "update or delete on table", TableName: "hive", Detail: `Key (id)=(9) is still referenced from table "hive".`},
			gate.ConstraintError{Kind: gate.StillReferenced, Table: "hive", Columns: []string{"id"}}},
		"check":      {pgconn.PgError{Code: checkViolation, ConstraintName: "light"}, gate.ConstraintError{Kind: gate.CheckBroken, Name: "light"}},
		"not null":   {pgconn.PgError{Code: notNullViolation, ColumnName: "name"}, gate.ConstraintError{Kind: gate.NotNullBroken, Columns: []string{"name"}}},
		"wrong form": {pgconn.PgError{Code: wrongTextForm, Message: "invalid input syntax for type inet"}, gate.ConstraintError{Kind: gate.WrongForm}},
		"too long":   {pgconn.PgError{Code: stringTruncation}, gate.ConstraintError{Kind: gate.TooLong}},
	} {
		t.Run(name, func(t *testing.T) {
			var broken *gate.ConstraintError
			require.ErrorAs(t, translate(fmt.Errorf("while writing: %w", &c.err)), &broken)
			broken.Err = nil
			assert.Equal(t, c.want, *broken)
		})
	}
}

func TestWhatIsNoConstraint(t *testing.T) {
	syntax := &pgconn.PgError{Code: "42601"}
	assert.Equal(t, error(syntax), translate(syntax))
	assert.NoError(t, translate(nil))
	for _, away := range []error{
		&pgconn.PgError{Code: "57P01"}, &pgconn.PgError{Code: "08006"}, &pgconn.PgError{Code: "53300"},
		&net.OpError{Op: "dial", Err: errors.New("refused")}, fmt.Errorf("beginning: %w", io.ErrUnexpectedEOF), fmt.Errorf("committing: %w", io.EOF), errors.New("conn closed"),
		&pgconn.PgError{Code: "53100"}, &pgconn.PgError{Code: "53200"}, &pgconn.PgError{Code: "25006"}, &pgconn.PgError{Code: "55P03"}, &pgconn.PgError{Code: "40001"}, &pgconn.PgError{Code: "40P01"}, &pgconn.PgError{Code: "58030"},
	} {
		assert.ErrorIs(t, translate(away), gate.ErrUnavailable)
	}
	assert.NotErrorIs(t, translate(&pgconn.PgError{Code: "57014"}), gate.ErrUnavailable, "a statement that was cancelled")
	assert.NotErrorIs(t, translate(context.DeadlineExceeded), gate.ErrUnavailable)
	assert.True(t, retryable(&pgconn.PgError{Code: serializationFailure}))
	assert.False(t, retryable(syntax))
}
