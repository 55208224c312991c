package migration_test

import (
	"os"
	"testing"

	"widegate/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }
