// What the pages do beyond links and forms: rows that open at a click, keys,
// copying, looking up the rows that others refer to, sending requests from the
// page on the API, and moving about in the diagram. Without it all pages work.
"use strict";

const all = (selector, inside = document) => [...inside.querySelectorAll(selector)];

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
    const body = form.querySelector("[data-in=body]");
    if (body) headers["Content-Type"] = form.dataset.media;
    return { url: path + (String(query) ? "?" + query : ""), headers, body: body ? body.value : undefined };
  };
  const quoted = (s) => "'" + s.replaceAll("'", "'\\''") + "'";
  const show = () => {
    const r = build();
    const parts = ["curl", ...(form.dataset.method === "GET" ? [] : ["-X " + form.dataset.method]), quoted(location.origin + r.url)];
    for (const [name, value] of Object.entries(r.headers)) parts.push("-H " + quoted(name + ": " + value));
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
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const box of all("g[transform]", diagram)) {
      const text = box.textContent.toLowerCase(), found = words.every((w) => text.includes(w));
      box.classList.toggle("dim", !found);
      box.classList.toggle("found", found && words.length > 0);
    }
  };
  if (find) {
    find.addEventListener("input", look);
    find.addEventListener("keydown", (e) => { if (e.key === "Enter") e.preventDefault(); });
  }
  diagram.addEventListener("click", (e) => { if (moved) e.preventDefault(); }, true);
  for (const button of all("[data-zoom]")) {
    button.addEventListener("click", () => {
      if (button.dataset.zoom === "0") Object.assign(view, whole);
      else zoom(Number(button.dataset.zoom), view.x + view.width / 2, view.y + view.height / 2);
    });
  }
}
