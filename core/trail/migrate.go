package trail

import (
	"database/sql"
	"fmt"
)

// carried puts what entries of the first form said in words into event and fields.
// That form had neither; docs/workspace.md tells both.
var carried = []struct{ event, fields, where string }{
	{"began", `json_object('what', substr(say, 1, length(say) - 6))`, "kind = 'shell' and say like '% began'"},
	{"link-up", "''", "kind = 'link' and say = 'link is up'"},
	{"link-down", "''", "kind = 'end' and say like 'link ended%'"},
	{"finished", `json_object('what', substr(say, 1, instr(say, ' ') - 1))`, "kind = 'end' and (say like 'shell %' or say like 'command %')"},
	{"walked", "''", "kind = 'walk'"},
	{"lent", "''", "kind = 'lend'"},
}

// migrate carries a trail of an older form over, where it is one. All of it is done or
// nothing.
func migrate(db *sql.DB) error {
	var columns int
	if err := db.QueryRow("select count(*) from pragma_table_info('entries') where name = 'event'").Scan(&columns); err != nil || columns > 0 {
		return err
	}
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, column := range []string{"event", "fields"} {
		if _, err := tx.Exec("alter table entries add column " + column + " text not null default ''"); err != nil {
			return fmt.Errorf("carrying it over to the present form: %w", err)
		}
	}
	for _, c := range carried {
		if _, err := tx.Exec("update entries set event = ?, fields = "+c.fields+" where "+c.where, c.event); err != nil {
			return fmt.Errorf("carrying it over to the present form: %w", err)
		}
	}
	return tx.Commit()
}
