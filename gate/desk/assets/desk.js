// What the pages do beyond links and forms: rows that open at a click, keys,
// copying, looking up the rows that others refer to, sending requests from the
// page on the API, and moving about in the diagram. Without it all pages work.
"use strict";

const all = (selector, inside = document) => [...inside.querySelectorAll(selector)];
const root = document.body.dataset.root;

// What a browser keeps of the pages: choices for each table, views, recent tables.
const kept = {
  get(name, other) { try { return JSON.parse(localStorage.getItem("desk " + root + " " + name)) ?? other; } catch { return other; } },
  set(name, value) { try { localStorage.setItem("desk " + root + " " + name, JSON.stringify(value)); } catch { /* the browser keeps nothing */ } },
};

// Values as the reader's own language writes them. A project's script adds functions
// to desk.formatters: they are given a value as text, and return the text to show.
window.desk = { formatters: {} };
const formats = {
  currency: (v, code) => new Intl.NumberFormat(undefined, code ? { style: "currency", currency: code } : {}).format(v),
  number: (v) => new Intl.NumberFormat(undefined, { maximumFractionDigits: 20 }).format(v),
  date: (v) => new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeZone: "UTC" }).format(new Date(v)),
  moment: (v) => new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" }).format(new Date(v)),
  relative: (v) => {
    const seconds = (new Date(v) - Date.now()) / 1000, units = [["year", 31536000], ["month", 2592000], ["day", 86400], ["hour", 3600], ["minute", 60]];
    const [unit, size] = units.find(([, s]) => Math.abs(seconds) >= s) || ["second", 1];
    return new Intl.RelativeTimeFormat(undefined, { numeric: "auto" }).format(Math.round(seconds / size), unit);
  },
  own: (v, name) => window.desk.formatters[name](v),
};
const format = (inside = document) => {
  for (const cell of all("[data-format]", inside)) {
    const [kind, ...rest] = cell.dataset.format.split(" ");
    try {
      const text = formats[kind](cell.dataset.value, rest.join(" "));
      if (text && !/Invalid|NaN/.test(text)) cell.textContent = text;
    } catch { /* it stays as it came */ }
  }
};
addEventListener("DOMContentLoaded", () => format());

// A row of a table opens where it is clicked, but not where text is selected.
for (const row of all("tr[data-href]")) {
  row.addEventListener("click", (e) => {
    if (e.target.closest("a, button, input") || String(getSelection())) return;
    if (e.ctrlKey || e.metaKey) open(row.dataset.href);
    else location.href = row.dataset.href;
  });
}

// Keys: those that elements name, and j, k and Enter for the rows of a table.
let at = -1;
addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  const typing = e.target.closest("input, textarea, select");
  if (typing && e.key !== "Escape") return;
  const named = all("[data-key]").find((x) => x.dataset.key === e.key);
  if (named && !(typing && e.target.closest(".lookup"))) {
    e.preventDefault();
    if (named.matches("input")) named.focus();
    else named.click();
    return;
  }
  const rows = all("tbody tr[data-href]");
  if (!rows.length || (e.key !== "j" && e.key !== "k")) return;
  at = Math.min(rows.length - 1, Math.max(0, at + (e.key === "j" ? 1 : -1)));
  const link = rows[at].querySelector("a");
  if (link) link.focus();
});

// What a row refers to opens beside the page; its link leads to it as ever when it
// is opened in a place of its own.
const beside = async (link) => {
  const answer = await fetch(link.href);
  if (!answer.ok) { location.href = link.href; return; }
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const panel = document.querySelector(".beside") || document.createElement("aside");
  panel.className = "beside";
  panel.setAttribute("aria-label", "The row that was chosen");
  const title = document.createElement("h2"), actions = document.createElement("div"), go = document.createElement("a"), close = document.createElement("button");
  title.textContent = page.querySelector("h1").textContent;
  title.tabIndex = -1;
  actions.className = "actions";
  go.className = "button primary";
  go.href = link.href;
  go.textContent = "Open";
  close.textContent = "Close";
  close.dataset.key = "Escape";
  close.addEventListener("click", () => { panel.remove(); link.focus(); });
  actions.append(go, close);
  const values = page.querySelector(".values");
  format(values);
  panel.replaceChildren(title, values, actions);
  for (const inner of all("[data-beside]", values)) openBeside(inner);
  document.body.append(panel);
  title.focus();
};
const openBeside = (link) => link.addEventListener("click", (e) => {
  if (e.ctrlKey || e.metaKey || e.shiftKey) return;
  e.preventDefault();
  beside(link);
});
for (const link of all("[data-beside]")) openBeside(link);

for (const button of all("[data-copy]")) {
  button.addEventListener("click", async () => {
    const text = document.getElementById(button.dataset.copy).textContent;
    await navigator.clipboard.writeText(new URL(text, location.href).href);
    button.textContent = "Copied";
    setTimeout(() => { button.textContent = "Copy"; }, 1500);
  });
}

// Parts of a page that come later.
for (const part of all("[data-load]")) {
  fetch(part.dataset.load).then((answer) => (answer.ok ? answer.text() : "")).then((text) => {
    const page = new DOMParser().parseFromString(text, "text/html");
    all(".empty", part).forEach((x) => x.remove());
    part.append(...page.body.children);
    format(part);
  });
}

const unknown = all("[data-size]");
if (unknown.length) {
  fetch(root + "sizes").then((answer) => (answer.ok ? answer.json() : {})).then((counts) => {
    for (const cell of unknown) cell.textContent = counts[cell.dataset.size] ?? "";
  });
}

// The menu: tables by words, groups that stay folded, recent tables first.
const menu = document.querySelector(".menu-in"), here = document.body.dataset.here;
if (menu) {
  const links = all("a[data-path]", menu), folded = kept.get("folded", []);
  for (const group of all("details[data-group]", menu)) {
    if (folded.includes(group.dataset.group) && !group.querySelector("[aria-current]")) group.open = false;
    group.addEventListener("toggle", () => {
      if (find && find.value) return;
      const now = new Set(kept.get("folded", []));
      now[group.open ? "delete" : "add"](group.dataset.group);
      kept.set("folded", [...now]);
    });
  }
  const find = menu.querySelector("[data-menu-find]"), recent = menu.querySelector(".recent");
  const visited = [here, ...kept.get("recent", []).filter((p) => p !== here)].filter((p) => p && links.some((a) => a.dataset.path === p)).slice(0, 6);
  kept.set("recent", visited);
  if (find && visited.length > 1) {
    recent.append(...visited.filter((p) => p !== here).slice(0, 5).map((p) => links.find((a) => a.dataset.path === p).closest("li").cloneNode(true)));
    for (const a of all("a", recent)) { delete a.dataset.path; a.removeAttribute("aria-current"); }
    recent.hidden = false;
  }
  if (find) {
    find.addEventListener("input", () => {
      const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
      for (const a of links) a.closest("li").hidden = !words.every((w) => (a.textContent + " " + a.dataset.path).toLowerCase().includes(w));
      for (const group of all("details[data-group]", menu)) {
        group.hidden = !all("li:not([hidden])", group).length;
        if (words.length) group.open = true;
      }
      recent.hidden = words.length > 0 || !recent.children.length;
    });
    find.addEventListener("keydown", (e) => {
      const first = links.find((a) => !a.closest("li").hidden);
      if (e.key === "Enter" && first) first.click();
      else if (e.key === "Escape") { find.value = ""; find.dispatchEvent(new Event("input")); find.blur(); }
    });
  }
}

// Tables: several columns to sort by, columns to choose, views to keep.
for (const link of all("[data-also]")) {
  link.title = (link.title ? link.title + " " : "") + "Shift-click to sort by this too";
  link.addEventListener("click", (e) => { if (e.shiftKey) { e.preventDefault(); location.href = link.dataset.also; } });
}
for (const button of all("[data-toggle]")) {
  const panel = document.getElementById(button.dataset.toggle);
  button.addEventListener("click", () => {
    panel.hidden = !panel.hidden;
    button.setAttribute("aria-expanded", String(!panel.hidden));
    if (!panel.hidden) panel.querySelector("input[type=checkbox]").focus();
  });
}
const chooser = document.getElementById("chooser");
if (chooser) {
  let dragged = null;
  for (const item of all("li", chooser)) {
    item.addEventListener("dragstart", (e) => { dragged = item; e.dataTransfer.effectAllowed = "move"; });
    item.addEventListener("dragover", (e) => { e.preventDefault(); item.classList.add("over"); });
    item.addEventListener("dragleave", () => item.classList.remove("over"));
    item.addEventListener("drop", (e) => { e.preventDefault(); item.classList.remove("over"); if (dragged && dragged !== item) item.before(dragged); });
    item.addEventListener("keydown", (e) => {
      if (!e.altKey || (e.key !== "ArrowUp" && e.key !== "ArrowDown")) return;
      e.preventDefault();
      const other = e.key === "ArrowUp" ? item.previousElementSibling : item.nextElementSibling;
      if (other) other[e.key === "ArrowUp" ? "before" : "after"](item);
      item.querySelector("input").focus();
    });
  }
  chooser.addEventListener("keydown", (e) => { if (e.key === "Escape") document.querySelector("[data-toggle=chooser]").click(); });
}
const table = document.querySelector("table[data-table]");
if (table && location.pathname === root + "rows/" + table.dataset.table) {
  // The choice for a table is kept, and taken when it is opened without one.
  const name = "table " + table.dataset.table, query = new URLSearchParams(location.search);
  const choice = ["properties", "sortby", "limit"];
  if (!location.search && kept.get(name, "")) {
    location.replace(location.pathname + "?" + kept.get(name, ""));
  } else if (location.search) {
    const now = new URLSearchParams();
    for (const key of choice) if (query.get(key)) now.set(key, query.get(key));
    kept.set(name, String(now));
  }
  for (const link of all("[data-forget]")) link.addEventListener("click", () => kept.set(name, ""));
  // Views are addresses under names, kept by this browser. An address can be sent to others.
  const place = document.querySelector("[data-views]"), list = "views " + table.dataset.table;
  const draw = () => {
    const views = kept.get(list, {}), select = document.createElement("select"), save = document.createElement("button"), gone = document.createElement("button");
    select.setAttribute("aria-label", "Saved views");
    select.append(new Option("views…", ""), ...Object.keys(views).sort().map((n) => new Option(n, views[n], false, views[n] === location.search)));
    select.addEventListener("change", () => { if (select.value) location.search = select.value; });
    save.type = gone.type = "button";
    save.textContent = "Save view";
    save.addEventListener("click", () => {
      const field = document.createElement("input"), ok = document.createElement("button");
      field.placeholder = "name of the view";
      field.setAttribute("aria-label", "Name of the view");
      ok.type = "button";
      ok.textContent = "Save";
      const done = () => { if (field.value.trim()) kept.set(list, { ...kept.get(list, {}), [field.value.trim()]: location.search || "?limit=50" }); draw(); };
      ok.addEventListener("click", done);
      field.addEventListener("keydown", (e) => { if (e.key === "Enter") { e.preventDefault(); done(); } else if (e.key === "Escape") { e.stopPropagation(); draw(); } });
      place.replaceChildren(field, ok);
      field.focus();
    });
    gone.textContent = "Delete view";
    gone.addEventListener("click", () => { const left = kept.get(list, {}); delete left[select.selectedOptions[0].text]; kept.set(list, left); draw(); });
    place.replaceChildren(...(Object.keys(views).length ? [select] : []), save, ...(select.selectedIndex > 0 ? [gone] : []));
  };
  draw();
}

// Lookups: typing words finds rows by what tells them.
for (const input of all("input[data-pick]")) {
  const box = input.parentElement;
  const list = document.createElement("ul");
  list.className = "choices";
  list.id = input.id + "-choices";
  list.setAttribute("role", "listbox");
  list.setAttribute("aria-label", "Rows to choose from");
  list.hidden = true;
  box.append(list);
  input.setAttribute("role", "combobox");
  input.setAttribute("aria-expanded", "false");
  input.setAttribute("aria-controls", list.id);
  input.setAttribute("aria-autocomplete", "list");
  let chosen = -1, asked = 0, takeFirst = false;
  const close = () => { list.hidden = true; chosen = -1; input.setAttribute("aria-expanded", "false"); input.removeAttribute("aria-activedescendant"); };
  const take = (item) => {
    input.value = item.dataset.value;
    box.querySelector(".shown").textContent = item.dataset.text;
    close();
  };
  const mark = (i) => {
    const items = all("li", list);
    if (!items.length) return;
    chosen = (i + items.length) % items.length;
    items.forEach((x, n) => x.setAttribute("aria-selected", String(n === chosen)));
    items[chosen].scrollIntoView({ block: "nearest" });
    input.setAttribute("aria-activedescendant", items[chosen].id);
  };
  const look = async () => {
    const mine = ++asked;
    const words = /^\d+$/.test(input.value) ? "" : input.value;
    const answer = await fetch(input.dataset.pick + "&q=" + encodeURIComponent(words));
    if (!answer.ok || mine !== asked) return;
    const found = await answer.json();
    list.replaceChildren(...found.map((f, n) => {
      const item = document.createElement("li");
      item.id = list.id + n;
      item.setAttribute("role", "option");
      item.dataset.value = f.Value;
      item.dataset.text = f.Text;
      const key = document.createElement("span");
      key.textContent = f.Value;
      item.append(f.Text, key);
      item.addEventListener("mousedown", (e) => { e.preventDefault(); take(item); });
      return item;
    }));
    list.hidden = !found.length;
    input.setAttribute("aria-expanded", String(!list.hidden));
    if (words && found.length) mark(0);
    if (takeFirst && words && found.length) take(list.firstChild);
    takeFirst = false;
  };
  input.addEventListener("focus", look);
  input.addEventListener("input", () => { box.querySelector(".shown").textContent = ""; look(); });
  input.addEventListener("blur", close);
  input.addEventListener("keydown", (e) => {
    if (e.key === "Enter" && !/^\d*$/.test(input.value)) { // words are no key yet
      e.preventDefault();
      if (list.hidden || chosen < 0) { takeFirst = true; look(); } else take(all("li", list)[chosen]);
      return;
    }
    if (list.hidden) return;
    if (e.key === "ArrowDown") { e.preventDefault(); mark(chosen + 1); }
    else if (e.key === "ArrowUp") { e.preventDefault(); mark(chosen - 1); }
    else if (e.key === "Enter" && chosen >= 0) { e.preventDefault(); take(all("li", list)[chosen]); }
    else if (e.key === "Escape") { e.stopPropagation(); close(); }
  });
}

// The page on the API: credentials are kept until the window is closed.
for (const field of all("[data-credentials]")) {
  try { field.value = sessionStorage.getItem("desk credentials") || ""; } catch { /* nothing is kept */ }
  field.addEventListener("input", () => { try { sessionStorage.setItem("desk credentials", field.value.trim()); } catch { /* nothing is kept */ } });
}

// The page on the API: sending requests.
for (const form of all("form.try")) {
  const build = () => {
    let path = form.dataset.path;
    const query = new URLSearchParams(), headers = {};
    for (const field of all("[data-in]", form)) {
      if (!field.value) continue;
      if (field.dataset.in === "path") path = path.replace("{" + field.name + "}", encodeURIComponent(field.value).replaceAll("%2C", ","));
      else if (field.dataset.in === "query") query.append(field.name, field.value);
      else if (field.dataset.in === "header") headers[field.name] = field.value;
    }
    const credentials = document.querySelector("[data-credentials]");
    if (credentials && credentials.value) {
      if (credentials.value.split(".").length === 3) headers.Authorization = "Bearer " + credentials.value;
      else headers["X-Api-Key"] = credentials.value;
    }
    const body = form.querySelector("[data-in=body]");
    if (body) headers["Content-Type"] = form.dataset.media;
    return { url: path + (String(query) ? "?" + query : ""), headers, body: body ? body.value : undefined };
  };
  const quoted = (s) => "'" + s.replaceAll("'", "'\\''") + "'";
  const show = () => {
    const r = build();
    const parts = ["curl", ...(form.dataset.method === "GET" ? [] : ["-X " + form.dataset.method]), quoted(location.origin + r.url)];
    for (const [name, value] of Object.entries(r.headers)) {
      // The line is for copying to others: it names a variable in place of the secret.
      if (name === "Authorization") parts.push('-H "Authorization: Bearer $TOKEN"');
      else if (name === "X-Api-Key") parts.push('-H "X-Api-Key: $API_KEY"');
      else parts.push("-H " + quoted(name + ": " + value));
    }
    if (r.body) parts.push("-d " + quoted(r.body.replace(/\s*\n\s*/g, "")));
    form.querySelector(".curl").textContent = parts.join(" ");
  };
  form.addEventListener("input", show);
  form.closest("details").addEventListener("toggle", show);
  form.addEventListener("submit", async (e) => {
    e.preventDefault();
    const said = form.querySelector(".said"), r = build(), start = performance.now();
    const pre = document.createElement("pre"), head = document.createElement("p");
    try {
      const answer = await fetch(r.url, { method: form.dataset.method, headers: r.headers, body: r.body });
      const text = await answer.text();
      head.textContent = `${answer.status} ${answer.statusText}, ${Math.round(performance.now() - start)} ms, ${answer.headers.get("Content-Type") || "no content"}`;
      try { pre.textContent = JSON.stringify(JSON.parse(text), null, 2); } catch { pre.textContent = text; }
    } catch (fault) {
      head.textContent = "The service did not answer: " + fault.message;
    }
    pre.tabIndex = 0;
    said.replaceChildren(head, pre);
  });
}
// The diagram: dragging moves it, the wheel makes it larger or smaller.
const diagram = document.querySelector(".schema svg");
if (diagram) {
  const view = diagram.viewBox.baseVal;
  const whole = { x: view.x, y: view.y, width: view.width, height: view.height };
  const scale = () => Math.max(view.width / diagram.clientWidth, view.height / diagram.clientHeight);
  const zoom = (factor, x, y) => {
    const width = Math.min(whole.width * 2, Math.max(200, view.width * factor)), f = width / view.width;
    view.x = x - (x - view.x) * f;
    view.y = y - (y - view.y) * f;
    view.width *= f;
    view.height *= f;
  };
  const point = (e) => {
    const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(diagram.getScreenCTM().inverse());
    return [p.x, p.y];
  };
  let from = null, moved = false;
  diagram.addEventListener("wheel", (e) => { e.preventDefault(); zoom(e.deltaY > 0 ? 1.15 : 1 / 1.15, ...point(e)); }, { passive: false });
  diagram.addEventListener("pointerdown", (e) => { from = [e.clientX, e.clientY]; moved = false; });
  addEventListener("pointermove", (e) => {
    if (!from) return;
    const s = scale();
    moved = moved || Math.abs(e.clientX - from[0]) + Math.abs(e.clientY - from[1]) > 4;
    view.x -= (e.clientX - from[0]) * s;
    view.y -= (e.clientY - from[1]) * s;
    from = [e.clientX, e.clientY];
  });
  addEventListener("pointerup", () => { from = null; });
  const find = document.querySelector("[data-find]");
  const look = () => {
    if (!find) return;
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const box of all("g[transform]", diagram)) {
      const text = box.textContent.toLowerCase(), found = words.every((w) => text.includes(w));
      box.classList.toggle("dim", !found);
      box.classList.toggle("found", found && words.length > 0);
    }
  };
  if (find) {
    find.addEventListener("input", look);
    find.addEventListener("keydown", (e) => {
      if (e.key !== "Enter") return;
      e.preventDefault();
      const first = diagram.querySelector("g.found");
      if (first && first.closest("a")) first.closest("a").focus();
    });
  }
  // A table that has the focus, or the pointer over it, stands out with its neighbours.
  const boxes = all("[data-box]", diagram), lines = all("[data-from]", diagram);
  const near = (name) => {
    const names = new Set([name]);
    for (const l of lines) {
      if (l.dataset.from === name) names.add(l.dataset.to);
      if (l.dataset.to === name) names.add(l.dataset.from);
    }
    for (const b of boxes) b.classList.toggle("dim", name !== null && !names.has(b.dataset.box));
    for (const l of lines) l.classList.toggle("dim", name !== null && l.dataset.from !== name && l.dataset.to !== name);
  };
  for (const b of boxes) {
    const link = b.closest("a") || b;
    link.addEventListener("focus", () => near(b.dataset.box));
    link.addEventListener("blur", () => { near(null); look(); });
    b.addEventListener("pointerenter", () => { if (!find || !find.value) near(b.dataset.box); });
    b.addEventListener("pointerleave", () => { if (!find || !find.value) near(null); });
  }
  document.querySelector(".schema").addEventListener("keydown", (e) => {
    const step = view.width / 8, moves = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] };
    if (moves[e.key]) { view.x += moves[e.key][0]; view.y += moves[e.key][1]; }
    else if (e.key === "+" || e.key === "=") zoom(0.8, view.x + view.width / 2, view.y + view.height / 2);
    else if (e.key === "-") zoom(1.25, view.x + view.width / 2, view.y + view.height / 2);
    else if (e.key === "0") Object.assign(view, whole);
    else return;
    e.preventDefault();
  });
  for (const button of all("[data-print]")) button.addEventListener("click", () => print());
  diagram.addEventListener("click", (e) => { if (moved) e.preventDefault(); }, true);
  for (const button of all("[data-zoom]")) {
    button.addEventListener("click", () => {
      if (button.dataset.zoom === "0") Object.assign(view, whole);
      else zoom(Number(button.dataset.zoom), view.x + view.width / 2, view.y + view.height / 2);
    });
  }
}
