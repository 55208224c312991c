package mysql

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"testing"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

func TestParseURL(t *testing.T) {
	c, err := ParseURL("mariadb://kee%20per:p%40ss%2Fw@[::1]:3307/bees?tls=true")
	require.NoError(t, err)
	assert.Equal(t, "kee per", c.User)
	assert.Equal(t, "p@ss/w", c.Passwd)
	assert.Equal(t, "[::1]:3307", c.Addr)
	assert.Equal(t, "bees", c.DBName)
	assert.Equal(t, "true", c.TLSConfig)
	c, err = ParseURL("mysql://root@/bees?socket=/run/bees.sock")
	require.NoError(t, err)
	assert.Equal(t, "unix", c.Net)
	assert.Equal(t, "/run/bees.sock", c.Addr)
	c, err = ParseURL("mysql:///bees")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:3306", c.Addr)
	_, err = ParseURL("mysql://a:secret@[bad/bees")
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "secret")
}

func TestMessagesOfBothServers(t *testing.T) {
	for message, c := range map[string]struct {
		number uint16
		want   gate.ConstraintError
	}{
		"Duplicate entry '1-x' for key 'hive_apiary_id_name_key'":      {errDuplicate, gate.ConstraintError{Kind: gate.UniqueBroken, Name: "hive_apiary_id_name_key"}},
		"Duplicate entry '1-x' for key 'hive.hive_apiary_id_name_key'": {errDuplicate, gate.ConstraintError{Kind: gate.UniqueBroken, Name: "hive_apiary_id_name_key"}},
		"Cannot add or update a child row: a foreign key constraint fails (`bees`.`hive`, CONSTRAINT `up` FOREIGN KEY (`apiary_id`, `no`) REFERENCES `apiary` (`id`, `no`))": {
			errNoReferencedRow, gate.ConstraintError{Kind: gate.ReferenceBroken, Name: "up", Table: "hive", Columns: []string{"apiary_id", "no"}}},
		"Cannot delete or update a parent row: a foreign key constraint fails (`bees`.`queen`, CONSTRAINT `up` FOREIGN KEY (`hive_id`) REFERENCES `hive` (`id`) ON UPDATE CASCADE)": {
			errStillReferenced, gate.ConstraintError{Kind: gate.StillReferenced, Name: "up", Table: "queen", Columns: []string{"hive_id"}}},
		"Check constraint 'light' is violated.":           {errCheckMySQL, gate.ConstraintError{Kind: gate.CheckBroken, Name: "light"}},
		"CONSTRAINT `light` failed for `bees`.`hive`":     {errCheckMariaDB, gate.ConstraintError{Kind: gate.CheckBroken, Name: "light"}},
		"Column 'name' cannot be null":                    {errBadNull, gate.ConstraintError{Kind: gate.NotNullBroken, Columns: []string{"name"}}},
		"Field 'name' doesn't have a default value":       {errNoDefault, gate.ConstraintError{Kind: gate.NotNullBroken, Columns: []string{"name"}}},
		"Data too long for column 'name' at row 1":        {errDataTooLong, gate.ConstraintError{Kind: gate.TooLong, Columns: []string{"name"}}},
		"Out of range value for column 'frames' at row 1": {errOutOfRange, gate.ConstraintError{Kind: gate.TooLong, Columns: []string{"frames"}}},
		"something that was never seen before":            {errDuplicate, gate.ConstraintError{Kind: gate.UniqueBroken}},
	} {
		cause := &driver.MySQLError{Number: c.number, Message: message}
		var broken *gate.ConstraintError
		require.ErrorAs(t, translate(fmt.Errorf("while writing: %w", cause)), &broken, message)
		require.ErrorIs(t, broken, cause)
		broken.Err = nil
		assert.Equal(t, c.want, *broken, message)
	}
}

func TestWhatIsNoConstraint(t *testing.T) {
	syntax := &driver.MySQLError{Number: 1064, Message: "syntax"}
	assert.Equal(t, error(syntax), translate(syntax))
	assert.NoError(t, translate(nil))
	assert.ErrorIs(t, translate(context.Canceled), context.Canceled)
	for _, away := range []error{driver.ErrInvalidConn, &net.OpError{Op: "dial", Err: errors.New("refused")}, &driver.MySQLError{Number: errTooManyConns}, io.EOF, io.ErrUnexpectedEOF, &driver.MySQLError{Number: errLockTimeout}, &driver.MySQLError{Number: errDeadlock}, &driver.MySQLError{Number: 1021}, &driver.MySQLError{Number: 1290}} {
		assert.ErrorIs(t, translate(away), gate.ErrUnavailable)
	}
	assert.True(t, retryable(fmt.Errorf("x: %w", &driver.MySQLError{Number: errDeadlock})))
	assert.False(t, retryable(syntax))
}
