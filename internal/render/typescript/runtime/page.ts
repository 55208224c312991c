// A page on all resources, without a framework: a list with a filter and pages, a form
// with the faults of its fields, and the way through relations. It is a place to start
// from, and shows rows through the client right after it was written.
import { connect, Problem } from "../index.ts";
import { made } from "../interface.ts";

const url = new URLSearchParams(location.search).get("api") ?? "http://127.0.0.1:8080" + made.base;
const api: Record<string, any> = connect({ url });
const names = Object.keys(api).filter((name) => name !== "client" && name !== "call");
const nav = document.querySelector("nav")!;
const view = document.querySelector<HTMLElement>("#view")!;
const problem = document.querySelector<HTMLElement>("#problem")!;

/** Makes an element, with texts and elements in it. */
const make = (tag: string, attributes: Record<string, string> = {}, ...inner: (string | Node)[]): HTMLElement => {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) element.setAttribute(name, value);
  element.append(...inner);
  return element;
};
const shown = (v: unknown) => (v === null || v === undefined ? "" : v instanceof Date ? v.toISOString() : typeof v === "object" ? JSON.stringify(v) : String(v));
const keyText = (resource: any, row: any) => resource.info.key.map((k: string) => encodeURIComponent(String(row[k]))).join(",");
const rowLink = (name: string, row: any) => `#${name}/${keyText(api[name], row)}`;
/** The key that an address has; numbers are numbers. */
const keyOf = (resource: any, text: string) => Object.fromEntries(resource.info.key.map((k: string, i: number) => [k, decodeURIComponent(text.split(",")[i] ?? "")]));
const resourceAt = (path: string) => names.find((n) => api[n].info.path === path);

/** Counts what was asked for, so that an answer that comes late does not show over a newer one. */
let turn = 0;

/** Runs an action, and shows why it fails. */
const attempt = async (action: () => Promise<void>) => {
  const mine = turn;
  problem.textContent = "";
  try {
    await action();
  } catch (e) {
    if (mine === turn) problem.textContent = e instanceof Problem ? `${e.title}: ${e.detail}` : `The service at ${url} cannot be reached, or does not let this page call it (api.cors): ${(e as Error).message}`;
  }
};

/** A table of rows, whose first cells lead to the rows. */
const table = (name: string | undefined, rows: any[]) => {
  const columns = Object.keys(rows[0] ?? {}).slice(0, 9);
  const cell = (row: any, column: string, i: number) => make("td", {}, i === 0 && name && api[name].info.key.length ? make("a", { href: rowLink(name, row) }, shown(row[column]) || "open") : shown(row[column]));
  return rows.length ? make("div", { class: "scroll" }, make("table", {}, make("thead", {}, make("tr", {}, ...columns.map((c) => make("th", {}, c)))), make("tbody", {}, ...rows.map((row) => make("tr", {}, ...columns.map((c, i) => cell(row, c, i))))))) : make("p", {}, "No rows.");
};

const list = async (name: string, query: URLSearchParams): Promise<Node[]> => {
  const filter = query.get("filter") ?? "";
  const q = query.get("q") ?? "";
  const page = await api[name].list({ limit: 20, count: true, q: q || undefined, filter: filter || undefined, after: query.get("after") ?? undefined });
  const form = make("form", { class: "line" }, make("input", { name: "q", type: "search", placeholder: "words", "aria-label": "Words", value: q }), make("input", { name: "filter", size: "32", placeholder: "filter, as in frames > 8", "aria-label": "Filter", value: filter }), make("button", {}, "Show"));
  form.addEventListener("submit", (e) => {
    e.preventDefault();
    location.hash = `${name}?${new URLSearchParams(new FormData(form as HTMLFormElement) as any)}`;
  });
  const actions = make("div", { class: "actions" }, `${page.matched} rows`);
  if (page.next) {
    query.set("after", page.next);
    actions.append(make("a", { href: `#${name}?${query}` }, "Next page"));
  }
  if (api[name].create) actions.append(make("a", { href: `#${name}/new` }, "New row"));
  return [make("h1", {}, name), form, table(name, page.items), actions];
};

/** A form for a row; fields are texts, and what is not changed is not sent. */
const form = (name: string, row: any | undefined, properties: readonly string[]) => {
  const inputs = new Map<string, HTMLInputElement>();
  const faults = new Map<string, HTMLElement>();
  const fields = properties.map((property) => {
    const input = make("input", { value: shown(row?.[property]) }) as HTMLInputElement;
    const fault = make("span", { class: "fault" });
    inputs.set(property, input);
    faults.set(property, fault);
    return make("label", {}, property, input, fault);
  });
  const value = (text: string, was: unknown) => {
    if (text === "") return null;
    if (typeof was === "string") return text;
    try { return JSON.parse(text); } catch { return text; }
  };
  const element = make("form", {}, make("div", { class: "fields" }, ...fields), make("div", { class: "actions" }, make("button", {}, "Save")));
  element.addEventListener("submit", (e) => {
    e.preventDefault();
    const mine = turn;
    void attempt(async () => {
      const changes = Object.fromEntries([...inputs].filter(([p, i]) => i.value !== shown(row?.[p])).map(([p, i]) => [p, value(i.value, row?.[p])]));
      for (const [property, fault] of faults) (fault.textContent = ""), inputs.get(property)!.classList.remove("faulty");
      try {
        const saved = row ? await api[name].patch(row, changes) : await api[name].create(changes);
        if (mine !== turn) return;
        location.hash = rowLink(name, saved);
        await show();
      } catch (e) {
        if (e instanceof Problem) for (const [property, fault] of faults) (fault.textContent = e.fault(property)), inputs.get(property)!.classList.toggle("faulty", fault.textContent !== "");
        throw e;
      }
    });
  });
  return element;
};

const one = async (name: string, key: string): Promise<Node[]> => {
  const resource = api[name];
  const properties = made.resources[resource.info.path]!;
  if (key === "new") {
    const sample = (await resource.list({ limit: 1 })).items[0];
    return [make("h1", {}, `New row of ${name}`), form(name, undefined, sample ? Object.keys(sample) : properties)];
  }
  const row = await resource.get(keyOf(resource, key));
  const related = make("div");
  const leads = properties.filter((p) => !(p in row) && !p.endsWith("_url")).map((relation) => {
    const button = make("button", { type: "button" }, relation);
    button.addEventListener("click", () => void attempt(async () => {
      const end = resource.of(row, relation);
      const found = await end.list({ limit: 20 }).then((page: any) => page.items ?? [page], () => end.get().then((r: any) => (r ? [r] : [])));
      related.replaceChildren(make("h1", {}, relation), table(endOf(found[0]), found));
    }));
    return button;
  });
  const actions = make("div", { class: "actions" }, ...leads);
  return [make("h1", {}, `${name} ${decodeURIComponent(key)}`), resource.patch ? form(name, row, Object.keys(row)) : table(undefined, [row]), actions, related];
};

/** The resource that a row is of, by its properties. */
const endOf = (row: object | undefined) => {
  const path = row && Object.keys(made.resources).find((p) => Object.keys(row).every((k) => made.resources[p]!.includes(k)));
  return path ? resourceAt(path) : undefined;
};

/** Shows what the address names. */
const show = () => (turn++, attempt(async () => {
  const mine = turn;
  const [where = "", query = ""] = location.hash.slice(1).split("?");
  const [name = "", key] = where.split(/\/(.*)/s);
  const known = names.includes(name) ? name : names[0]!;
  nav.replaceChildren(...names.map((n) => make("a", { href: "#" + n, ...(n === known && { "aria-current": "page" }) }, n)));
  nav.querySelector("[aria-current]")?.scrollIntoView({ inline: "center", block: "nearest" });
  const shown = await (key && name === known ? one(known, key) : list(known, new URLSearchParams(query)));
  if (mine === turn) view.replaceChildren(...shown);
}));
addEventListener("hashchange", () => void show());
void show();
