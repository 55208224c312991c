package desk

import (
	"net/http"

	"widegate/gate/apidoc"
)

// docsView is the page that tells of the API.
type docsView struct {
	frame
	*apidoc.View
}

// docs shows the OpenAPI document as whoever asks for it has it, with a form for
// each operation.
func (v *visit) docs() error {
	document, err := v.askAt(http.MethodGet, "/openapi.json", "", nil)
	if err != nil {
		return err
	}
	view := &docsView{frame: v.frame("The API", crumb{"The API", v.at("docs")})}
	if view.View, err = apidoc.NewView(document.body, v.r.URL.Query().Get("tag"), v.r.URL.Query().Get("find")); err != nil {
		return err
	}
	return v.show(http.StatusOK, "docs", view)
}
