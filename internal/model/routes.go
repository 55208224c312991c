package model

// Does is what a route of the service does.
type Does string

// What routes do.
const (
	DoesList          Does = "list"
	DoesSummarize     Does = "summarize"
	DoesGet           Does = "get"
	DoesCreate        Does = "create"
	DoesReplace       Does = "replace"
	DoesChange        Does = "change"
	DoesRemove        Does = "remove"
	DoesChangeMany    Does = "change many"
	DoesRemoveMany    Does = "remove many"
	DoesSendContent   Does = "send content"
	DoesStoreContent  Does = "store content"
	DoesRemoveContent Does = "remove content"
	DoesGetUnder      Does = "get under"
	DoesListUnder     Does = "list under"
	DoesCreateUnder   Does = "create under"
	DoesLink          Does = "link"
	DoesUnlink        Does = "unlink"
)

// Route is a verb of a path below the base.
type Route struct {
	Pattern  string // GET /hives/{key}
	Does     Does
	Relation *Relation // that leads on from a row
	Content  *Field    // the binary column
}

// Routes are those of an entity, in the order in which they are listed.
func (e *Entity) Routes() []Route {
	all, row := "/"+e.Path, "/"+e.Path+"/{key}"
	list := []Route{{Pattern: "GET " + all, Does: DoesList}, {Pattern: "GET " + all + "/summary", Does: DoesSummarize}}
	if len(e.Key) > 0 {
		list = append(list, Route{Pattern: "GET " + row, Does: DoesGet})
	}
	if e.Verbs != ReadOnly {
		list = append(list, Route{Pattern: "POST " + all, Does: DoesCreate})
	}
	if e.Verbs == Full {
		list = append(list,
			Route{Pattern: "PUT " + row, Does: DoesReplace},
			Route{Pattern: "PATCH " + row, Does: DoesChange},
			Route{Pattern: "DELETE " + row, Does: DoesRemove})
	}
	if e.Bulk > 0 {
		list = append(list, Route{Pattern: "PATCH " + all, Does: DoesChangeMany}, Route{Pattern: "DELETE " + all, Does: DoesRemoveMany})
	}
	if len(e.Key) == 0 {
		return list
	}
	for _, f := range e.Contents() {
		at := row + "/" + f.Content.Path
		list = append(list, Route{Pattern: "GET " + at, Does: DoesSendContent, Content: f})
		if e.Verbs == Full {
			list = append(list, Route{Pattern: "PUT " + at, Does: DoesStoreContent, Content: f})
		}
		if e.Verbs == Full && f.Nullable {
			list = append(list, Route{Pattern: "DELETE " + at, Does: DoesRemoveContent, Content: f})
		}
	}
	for _, r := range e.Relations {
		list = append(list, r.routes(row+"/"+r.Path)...)
	}
	return list
}

func (r *Relation) routes(at string) []Route {
	if r.Kind == ToOne {
		return []Route{{Pattern: "GET " + at, Does: DoesGetUnder, Relation: r}}
	}
	list := []Route{{Pattern: "GET " + at, Does: DoesListUnder, Relation: r}}
	if r.Reverse() && r.To.Verbs != ReadOnly {
		list = append(list, Route{Pattern: "POST " + at, Does: DoesCreateUnder, Relation: r})
	}
	if r.Linkable() {
		list = append(list, Route{Pattern: "PUT " + at + "/{other}", Does: DoesLink, Relation: r}, Route{Pattern: "DELETE " + at + "/{other}", Does: DoesUnlink, Relation: r})
	}
	return list
}
