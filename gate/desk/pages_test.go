package desk_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/desk"
	"widegate/gate/rest"
)

func TestSortingByMany(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	also := func(page, column string) string {
		m := regexp.MustCompile(`data-also="([^"]+)">` + column).FindStringSubmatch(page)
		require.NotNil(t, m, column)
		return strings.ReplaceAll(m[1], "&amp;", "&")
	}
	first := get(d, "/desk/rows/hives?sortby=-temper").Body.String()
	two := also(first, "Name")
	assert.Contains(t, two, url.Values{"sortby": {"-temper,name"}}.Encode())
	page := get(d, two).Body.String()
	assert.Contains(t, page, "Temper <span aria-hidden=\"true\">↓</span><sup>1</sup>")
	assert.Contains(t, page, "Name <span aria-hidden=\"true\">↑</span><sup>2</sup>")
	assert.Less(t, strings.Index(page, ">Odd<"), strings.Index(page, ">Hive A<"), "fierce before calm")
	turned := also(page, "Name")
	assert.Contains(t, turned, url.Values{"sortby": {"-temper,-name"}}.Encode())
	assert.NotContains(t, also(get(d, turned).Body.String(), "Name"), "name", "the third time it goes")
}

func TestChoosingColumns(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	to := get(d, "/desk/rows/hives?_choice=1&_column=notes&_column=name&limit=25").Header().Get("Location")
	page := get(d, to).Body.String()
	heads := regexp.MustCompile(`<th scope="col"[^>]*><a[^>]*>(\w+)`).FindAllStringSubmatch(page, -1)
	require.Len(t, heads, 2)
	assert.Equal(t, "Notes", heads[0][1])
	assert.Equal(t, "Name", heads[1][1])
	assert.Contains(t, page, "<strong>25</strong>")
	assert.Regexp(t, `value="notes" checked>[^/]+</label></li>\s*<li draggable="true"><label><input type="checkbox" name="_column" value="name" checked>`, page)
}

func TestCharts(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	for query, parts := range map[string][]string{
		"?by=temper":                           {`class="bar"`, ">calm</a></td><td class=\"number\">30</td>", ">fierce</a>"},
		"?by=apiary_id&measure=sum(weight_kg)": {">North Field</a>", ">Old Mill</a>", "Sum of weight (kg)"},
		"?by=weight_kg":                        {`class="bar"`, "<td>20 – 22</td><td class=\"number\">2</td>"},
		"?by=seen":                             {"There are no values to draw."},
		"?by=temper&filter=temper%3D%27fierce%27":    {">fierce</a></td><td class=\"number\">1</td>", `name="filter" value="temper=&#39;fierce&#39;"`},
		"?by=temper&measure=avg(weight_kg)":          {">calm</a></td><td class=\"number\">34.5</td>", ">fierce</a></td><td class=\"number\">–</td>"},
		"?by=apiary_id&measure=avg(weight_kg)":       {">North Field</a></td><td class=\"number\">34</td>"}, // one of whose hives was never weighed
		"?by=apiary_id&measure=min(weight_kg)":       {">North Field</a></td><td class=\"number\">20</td>", ">Old Mill</a></td><td class=\"number\">21</td>"},
		"?by=nothing&measure=%3Cscript%3Ealert(1)//": {"Number of rows"},
	} {
		w := get(d, "/desk/chart/hives"+query)
		assert.Equal(t, http.StatusOK, w.Code, query)
		for _, part := range parts {
			assert.Contains(t, w.Body.String(), part, query)
		}
		assert.NotContains(t, w.Body.String(), "<script>alert")
		assert.Contains(t, w.Body.String(), "/api/hives/summary?", query)
	}
	wrong := get(d, "/desk/chart/hives?by=temper&filter=nothing%3D1")
	assert.Equal(t, http.StatusBadRequest, wrong.Code)
	assert.Contains(t, wrong.Body.String(), "nothing")
}

func TestSigningIn(t *testing.T) {
	identify := func(r *http.Request) (*rest.Identity, error) {
		switch r.Header.Get("X-Api-Key") {
		case "":
			return nil, nil
		case "good":
			return &rest.Identity{Subject: "scales", Roles: []string{"keeper"}}, nil
		}
		return nil, rest.ErrCredentials
	}
	d := newDesk(t, desk.Config{}, rest.Config{Identify: identify, KeysOnly: true, Allow: map[string]rest.Allow{
		"":         {Read: []string{"keeper"}},
		"apiaries": {Read: []string{rest.Anybody}, Rows: map[string]string{rest.Anybody: "id < 0"}},
	}})
	home := get(d, "/desk/").Body.String()
	assert.Contains(t, home, `href="/desk/sign-in?_back=%2fdesk%2f"`)
	assert.Contains(t, get(d, "/desk/rows/apiaries").Body.String(), "There are no rows here that you may see.")

	assert.Equal(t, http.StatusUnauthorized, post(t, d, "/desk/sign-in", map[string]string{"credentials": "bad"}).Code)
	assert.Equal(t, http.StatusBadRequest, post(t, d, "/desk/sign-in", map[string]string{"credentials": " "}).Code)
	in := post(t, d, "/desk/sign-in", map[string]string{"credentials": "good", "_back": "https://evil.example/desk/"})
	assert.Equal(t, "/desk/", in.Header().Get("Location"), "no other site")
	cookie := in.Result().Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)

	r := httptest.NewRequest("GET", "/desk/rows/hives", nil)
	r.AddCookie(cookie)
	w := httptest.NewRecorder()
	d.ServeHTTP(w, r)
	assert.Contains(t, w.Body.String(), "Hive A")
	assert.Contains(t, w.Body.String(), "scales")
	r = httptest.NewRequest("GET", "/desk/api/hives/1", nil)
	r.AddCookie(cookie)
	w = httptest.NewRecorder()
	d.ServeHTTP(w, r)
	assert.Contains(t, w.Body.String(), `"name":"Hive A"`, "pictures and exports come with the same credentials")

	r = httptest.NewRequest("GET", "/desk/rows/hives", nil)
	r.AddCookie(&http.Cookie{Name: cookie.Name, Value: "Z29uZQ"})
	w = httptest.NewRecorder()
	d.ServeHTTP(w, r)
	assert.Equal(t, http.StatusUnauthorized, w.Code, "a key that is good no more")
	assert.Equal(t, -1, post(t, d, "/desk/sign-out", nil).Result().Cookies()[0].MaxAge)
	assert.Equal(t, 403, post(t, d, "/desk/sign-in", map[string]string{"credentials": "good"}, "Sec-Fetch-Site", "cross-site").Code)
	assert.NotContains(t, get(newDesk(t, desk.Config{}, rest.Config{}), "/desk/").Body.String(), "Sign in")
}

func TestBrands(t *testing.T) {
	d := newDesk(t, desk.Config{Colour: "#ffd24d", Icon: "data:image/png;base64,AAAA", Script: []byte("desk.formatters.stars = (v) => v"), Notes: []desk.Note{{Path: "hives", Text: "it has no index"}, {Path: "secrets", Text: "hidden"}}}, rest.Config{})
	assert.Equal(t, ":root { --accent: #ffd24d; --on-accent: #14110d; }\n", get(d, "/desk/assets/brand.css").Body.String(), "dark on light")
	assert.Contains(t, get(d, "/desk/assets/own.js").Body.String(), "stars")
	home := get(d, "/desk/").Body.String()
	assert.Contains(t, home, `<img src="data:image/png;base64,AAAA" alt="">`)
	assert.Contains(t, home, "it has no index")
	assert.NotContains(t, home, "hidden</li>", "of what the reader does not know of")
	assert.JSONEq(t, `{"hives":"31","apiaries":"2"}`, get(d, "/desk/sizes").Body.String())
	dark := newDesk(t, desk.Config{Colour: "#203040"}, rest.Config{})
	assert.Contains(t, get(dark, "/desk/assets/brand.css").Body.String(), "--on-accent: #ffffff")
	odd := newDesk(t, desk.Config{Colour: "red; } body { display: none"}, rest.Config{})
	assert.Empty(t, get(odd, "/desk/assets/brand.css").Body.String())
}
