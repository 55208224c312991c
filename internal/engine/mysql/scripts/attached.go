package scripts

import (
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

var (
	triggerHead = regexp.MustCompile("(?is)^CREATE\\s+(?:OR\\s+REPLACE\\s+)?(?:DEFINER\\s*=\\s*\\S+\\s+)?TRIGGER\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?(?:(?:`[^`]*`|\\w+)\\.)?(`[^`]*`|\\S+)\\s+(BEFORE|AFTER)\\s+(INSERT|UPDATE|DELETE)\\s+ON\\s+(?:(?:`[^`]*`|\\w+)\\.)?(`[^`]*`|\\S+)\\s+FOR\\s+EACH\\s+ROW\\s+(.*)$")
	triggerGone = regexp.MustCompile("(?is)^DROP\\s+TRIGGER\\s+(?:IF\\s+EXISTS\\s+)?(?:(?:`[^`]*`|\\w+)\\.)?(`[^`]*`|[^\\s;]+)")
	viewCheck   = regexp.MustCompile(`(?is)\bWITH\s+(CASCADED|LOCAL)?\s*CHECK\s+OPTION\s*;?\s*$`)
	viewInvoker = regexp.MustCompile(`(?is)\bSQL\s+SECURITY\s+INVOKER\b`)
)

// createTrigger reports whether the table of the trigger is there.
func (m *my) createTrigger(text string) bool {
	match := triggerHead.FindStringSubmatch(text)
	if match == nil {
		return false
	}
	unquote := func(s string) string { return strings.ReplaceAll(strings.Trim(s, "`"), "``", "`") }
	name, table := unquote(match[1]), unquote(match[4])
	m.dropTrigger(name)
	found := false
	for _, t := range m.tables {
		if strings.EqualFold(t.Name, table) && (t.Schema == m.current || t.Schema == "") {
			found = true
			quoted := func(s string) string { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }
			t.Triggers = append(t.Triggers, catalog.Trigger{Name: name,
				Definition: "CREATE TRIGGER " + quoted(name) + " " + strings.ToUpper(match[2]) + " " + strings.ToUpper(match[3]) + " ON " + quoted(t.Name) + " FOR EACH ROW " + strings.TrimRight(match[5], "; \n")})
		}
	}
	return found
}

func (m *my) dropTrigger(name string) {
	for _, t := range m.tables {
		t.Triggers = slices.DeleteFunc(t.Triggers, func(x catalog.Trigger) bool { return strings.EqualFold(x.Name, name) })
	}
}

// viewOptions are what a view has besides its query.
func viewOptions(text string) []string {
	var list []string
	head := text
	if i := strings.Index(strings.ToUpper(text), " AS "); i >= 0 {
		head = text[:i]
	}
	if viewInvoker.MatchString(head) {
		list = append(list, "sql security invoker")
	}
	if m := viewCheck.FindStringSubmatch(text); m != nil {
		kind := strings.ToLower(m[1])
		if kind == "" {
			kind = "cascaded"
		}
		list = append(list, "with "+kind+" check option")
	}
	return list
}
