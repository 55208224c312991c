// How resources are called: requests, retries, filters, pages and faults. It depends on
// fetch and nothing else, and runs in browsers, Node, Deno and workers.

/** What a resource is made of. */
export interface Shape {
  row: object;
  draft: object;
  patch: object;
  key: unknown;
  relations: object;
  /** Columns of decimal numbers that are texts, since a number would lose digits. */
  decimals: string;
  /** Binary columns that are resources of their own, by their paths. */
  contents: string;
}

/** A relation to one row, or none. */
export interface One<S> { one: S }
/** A relation to many rows. */
export interface Many<S> { many: S }
/** A relation to many rows, which can be added at its end; Given are the columns that they need not have. */
export interface Children<S, Given extends string> { many: S; given: Given }
/** A relation to many rows, which can be linked and unlinked. */
export interface Linked<S> { many: S; linked: true }

/** A value of a JSON column. */
export type Json = string | number | boolean | null | Json[] | { [name: string]: Json };
/** A range; null is no bound. */
export interface Range<T> { from: T | null; to: T | null; bounds: "[)" | "[]" | "(]" | "()" | "empty" }
/** A new row without what comes from elsewhere. */
export type Without<T, K extends PropertyKey> = T extends unknown ? Omit<T, K> & { [P in K & keyof T]?: T[P] } : never;

type Names<T> = Extract<keyof T, string>;
type Order<S extends Shape> = Names<S["row"]> | `-${Names<S["row"]>}`;
type End<R> = R extends { one: infer T extends Shape } ? T : R extends { many: infer T extends Shape } ? T : never;

/** The relations to embed: true, or how. */
export type With<S extends Shape> = { [R in keyof S["relations"]]?: true | Bounds<End<S["relations"][R]>> };
/** How related rows are embedded. */
export interface Bounds<S extends Shape> {
  limit?: number;
  sortby?: readonly Order<S>[];
  filter?: Filter<S>;
  with?: With<S>;
}
type Inner<W> = W extends { with: infer V } ? V : unknown;
type Embedded<S extends Shape, W> = { [R in keyof W & keyof S["relations"]]: S["relations"][R] extends { one: infer T extends Shape } ? Row<T, Inner<W[R]>> | null : Row<End<S["relations"][R]>, Inner<W[R]>>[] };
/** A row with the relations and properties that were asked for. */
export type Row<S extends Shape, W = unknown, P = unknown> = ([P] extends [readonly (infer C)[]] ? Pick<S["row"], C & keyof S["row"]> : S["row"]) & ([W] extends [object] ? Embedded<S, W> : unknown);
type Exact<W, S extends Shape> = W & { [K in Exclude<keyof W, keyof S["relations"]>]: never };

/** A condition on rows, as CQL2 text (OGC 21-065). */
export class Condition {
  readonly text: string;
  constructor(text: string) { this.text = text; }
}

const join = (word: string, list: Condition[]) => new Condition(list.length ? "(" + list.map((c) => c.text).join(` ${word} `) + ")" : word === "AND" ? "1 = 1" : "1 = 0");
/** All of the conditions hold. */
export const and = (...list: Condition[]): Condition => join("AND", list);
/** One of the conditions holds. */
export const or = (...list: Condition[]): Condition => join("OR", list);
/** The condition does not hold. */
export const not = (c: Condition): Condition => new Condition(`NOT (${c.text})`);
/** A condition written as CQL2 text, for what cannot be said otherwise. */
export const cql = (text: string): Condition => new Condition(text);

/** A decimal number with all its digits. */
export class Decimal {
  readonly text: string;
  constructor(text: string) {
    if (!/^-?\d+(\.\d+)?$/.test(text)) throw new TypeError(`${JSON.stringify(text)} is no decimal number`);
    this.text = text;
  }
}

/** Writes a value as a literal of CQL2 text. */
const literal = (v: unknown): string =>
  v instanceof Decimal ? v.text
  : v instanceof Date ? `'${v.toISOString()}'`
  : typeof v === "boolean" ? (v ? "TRUE" : "FALSE")
  : typeof v === "number" || typeof v === "bigint" ? String(v)
  : `'${String(v).replaceAll(/(\\+)(?='|$)/g, "$1$1").replaceAll("'", "''")}'`; // backslashes before a quote are doubled

/** What can be asked of a column. */
export class Column<V> {
  readonly #name: string;
  constructor(name: string) { this.#name = name; }
  #compare(op: string, v: V) { return new Condition(`${this.#name} ${op} ${literal(v)}`); }
  /** It is a value; null asks for no value. */
  is(v: V | null): Condition { return v === null ? new Condition(`${this.#name} IS NULL`) : this.#compare("=", v); }
  /** It is not a value; null asks for any value. */
  isNot(v: V | null): Condition { return v === null ? new Condition(`${this.#name} IS NOT NULL`) : this.#compare("<>", v); }
  in(list: readonly V[]): Condition { return list.length ? new Condition(`${this.#name} IN (${list.map(literal).join(", ")})`) : or(); }
  less(v: V): Condition { return this.#compare("<", v); }
  atMost(v: V): Condition { return this.#compare("<=", v); }
  more(v: V): Condition { return this.#compare(">", v); }
  atLeast(v: V): Condition { return this.#compare(">=", v); }
  between(low: V, high: V): Condition { return new Condition(`${this.#name} BETWEEN ${literal(low)} AND ${literal(high)}`); }
  /** It matches a pattern, in which % stands for any text and _ for one character. */
  like(this: Column<string>, pattern: string): Condition { return new Condition(`${this.#name} LIKE ${literal(pattern)}`); }
  /** The same, whatever the case. */
  likeFold(this: Column<string>, pattern: string): Condition { return new Condition(`CASEI(${this.#name}) LIKE CASEI(${literal(pattern)})`); }
}

/** The columns of a resource, and behind a relation those of its end. */
export type Columns<S extends Shape> = { readonly [C in Names<S["row"]>]: Column<C extends S["decimals"] ? Decimal : NonNullable<S["row"][C & keyof S["row"]]>> } & { readonly [R in Names<S["relations"]>]: Columns<End<S["relations"][R & keyof S["relations"]]>> };
/** A condition, CQL2 text, or a function of the columns. */
export type Filter<S extends Shape> = Condition | string | ((columns: Columns<S>) => Condition);

const reserved = /^(and|or|not|like|between|in|is|null|true|false|casei|accenti|date|timestamp|interval|div|a_equals|a_contains|a_containedby|a_overlaps)$/i;
const word = (name: string) => (/^[A-Za-z_][A-Za-z0-9_]*$/.test(name) && !reserved.test(name) ? name : `"${name.replaceAll('"', '""')}"`);
const columns = (path: string): any => new Proxy(new Column(path), { get: (c: any, name) => (typeof name === "symbol" ? undefined : path && name !== "constructor" && name in Column.prototype ? c[name].bind(c) : columns((path && path + ".") + word(name))) });
const filterText = (f: Condition | string | ((c: any) => Condition)): string => (typeof f === "string" ? f : typeof f === "function" ? f(columns("")).text : f.text);

/** What a collection is asked for. */
export interface Choice<S extends Shape> {
  filter?: Filter<S>;
  /** Words that stand in the texts of a row. */
  q?: string;
  /** Columns, with - before those that go down. */
  sortby?: readonly Order<S>[];
  signal?: AbortSignal;
}
/** What a list is asked for. */
export interface Query<S extends Shape, W = unknown, P = unknown> extends Choice<S> {
  with?: W;
  properties?: P;
  limit?: number;
  offset?: number;
  /** next of the page before. */
  after?: string;
  /** Tell how many rows match. */
  count?: boolean;
}
/** A page of rows. */
export interface Page<T> { items: T[]; next?: string; matched?: number }

/** What a write can be told. */
export interface Sending {
  signal?: AbortSignal;
  /** The ETag that the row must have; a row that was read brings its own. false for any. */
  ifMatch?: string | false;
  /** Makes a repeated request count once; one is made where the service keeps them. */
  idempotencyKey?: string;
}

/** A fault of one field. */
export interface Fault { pointer: string; detail: string }

/** An error that the service answers with (RFC 9457). */
export class Problem extends Error {
  readonly status: number;
  readonly type: string;
  readonly title: string;
  readonly detail: string;
  /** The faults of each field of the body. */
  readonly faults: readonly Fault[];
  constructor(status: number, body: any) {
    super(body?.detail ?? body?.title ?? `the service answered ${status}`);
    this.name = "Problem";
    this.status = status;
    this.type = body?.type ?? "about:blank";
    this.title = body?.title ?? "";
    this.detail = body?.detail ?? "";
    this.faults = body?.errors ?? [];
  }
  /** The faults of a property, as one text to show at a field of a form; "" for none. */
  fault(property: string): string {
    const pointer = "#/" + property.replaceAll("~", "~0").replaceAll("/", "~1");
    return this.faults.filter((f) => f.pointer === pointer || f.pointer?.startsWith(pointer + "/")).map((f) => f.detail).join("; ");
  }
}

/** How a service is reached. */
export interface Options {
  /** Where the paths of the resources begin, such as http://localhost:8080/api. */
  url: string;
  /** A bearer token, or a function that has one. */
  token?: string | (() => string | undefined | Promise<string | undefined>);
  headers?: Record<string, string>;
  /** How often a request is sent again that may be; 3. */
  retries?: number;
  /** Milliseconds for one attempt; those of the platform when left out. */
  timeout?: number;
  fetch?: typeof fetch;
  /** The service keeps idempotency keys. */
  idempotency?: boolean;
  /** Integers that a number cannot hold are bigints; else they are errors. */
  exact?: boolean;
  /** Where points in time are, which are Dates then; else they are texts. */
  dates?: Dates;
  /** The interface that the client was made from; false does not compare it with the service's. */
  made?: false | (() => Promise<{ made: Made }>);
  /** Told once how the interface of the service differs; console.warn when left out. */
  report?: (differences: string[]) => void;
}

/** The points in time of rows, and the resources to which their relations lead. */
export interface Dated { own: readonly string[]; to: Record<string, string> }
/** Those of each resource. */
export type Dates = Record<string, Dated>;

/** Makes Dates of the points in time of a row, or of several. */
export const dated = (rows: any, of: Dated | string | undefined, all: Dates | undefined): any => {
  const known = typeof of === "string" ? all?.[of] : of;
  if (!all || !known || !rows) return rows;
  for (const row of Array.isArray(rows) ? rows : [rows]) {
    for (const name of known.own) {
      if (typeof row[name] !== "string") continue;
      const at = new Date(row[name]);
      if (isNaN(+at)) throw new RangeError(`${name}: ${row[name]} is no time that a Date holds`);
      row[name] = at;
    }
    for (const name in known.to) if (row[name]) dated(row[name], known.to[name], all);
  }
  return rows;
};

/** What a client was made from. */
export interface Made {
  /** The ETag of the document. */
  etag: string;
  /** Where the paths begin. */
  base: string;
  /** The path of the document, if it is not openapi.json. */
  document?: string;
  /** The properties of each resource. */
  resources: Record<string, readonly string[]>;
}

/** One request. */
export interface Call {
  method: string;
  path: string;
  query?: Record<string, string | undefined>;
  body?: unknown;
  headers?: Record<string, string>;
  signal?: AbortSignal;
  /** Sending it twice is as good as once. */
  safe?: boolean;
}
/** What came back. */
export interface Answer { status: number; headers: { get(name: string): string | null }; value: any }

const mark = "#" + Math.random().toString(36).slice(2) + ":";
/** Writes JSON, in which bigints are numbers. */
export const encode = (v: unknown): string =>
  JSON.stringify(v, (_, x) => (typeof x === "bigint" ? mark + x : x instanceof Decimal ? x.text : x)).replaceAll(new RegExp(`"${mark}(-?\\d+)"`, "g"), "$1");
/** Tells whether a text has 16 digits in a row, looking at every 16th place first. */
const long = (text: string): boolean => {
  for (let i = 15; i < text.length; ) {
    let j = i;
    for (let c; j > i - 16 && (c = text.charCodeAt(j)) > 47 && c < 58; ) j--;
    if (j === i - 16) return true;
    i = j + 16;
  }
  return false;
};
/** Reads JSON without the loss of digits: integers beyond 2^53 are bigints, or an error. */
export const decode = (text: string, exact = false): any => {
  if (!long(text)) return JSON.parse(text);
  const kept = text.replaceAll(/"(?:[^"\\]|\\.)*"|-?\d[\d.eE+-]*/g, (x) => {
    if (!/^-?\d{16,}$/.test(x) || Number.isSafeInteger(Number(x))) return x;
    if (!exact) throw new RangeError(`${x} has more digits than a number holds; set clients.typescript.exact in widegate.yaml`);
    return `"${mark}${x}"`;
  });
  return JSON.parse(kept, (_, x) => (typeof x === "string" && x.startsWith(mark) ? BigInt(x.slice(mark.length)) : x));
};

const pause = (ms: number, signal?: AbortSignal) =>
  new Promise<void>((done, fail) => {
    signal?.throwIfAborted();
    const timer = setTimeout(done, ms);
    signal?.addEventListener("abort", () => (clearTimeout(timer), fail(signal.reason)), { once: true });
  });

/** The longest wait before a request is sent again, in milliseconds. */
const longest = 60_000;

/** The path of a call, with its query. */
const target = (call: Call): string => {
  let text = call.path;
  let mark = text.includes("?") ? "&" : "?";
  for (const name in call.query) {
    const v = call.query[name];
    if (v !== undefined) text += mark + name + "=" + encodeURIComponent(v), (mark = "&");
  }
  return text;
};

/** Sends requests. */
export class Client {
  readonly options: Options;
  #compared: boolean;
  constructor(options: Options) {
    this.options = { ...options, url: options.url.replace(/\/+$/, "") };
    this.#compared = !options.made;
  }

  /** Tells how the interface of the service differs from the one that the client was made from. */
  async differences(): Promise<string[]> {
    const { url, made: load } = this.options;
    if (!load) return [];
    const { made } = await load();
    const root = url.endsWith(made.base) ? url.slice(0, -made.base.length) : new URL(url).origin;
    const answer = await this.#attempt({ method: "GET", path: made.document ?? "openapi.json", headers: { "If-None-Match": made.etag } }, root);
    if (!answer.ok) return [];
    const document = await answer.json();
    return Object.entries(made.resources).flatMap(([path, properties]) => {
      const at = document.paths?.[`${made.base}/${path}`]?.get;
      if (!at) return [`there is no ${path} any more, or not for this caller`];
      const list = (at.responses?.["200"]?.$ref ?? "").split("/").pop().replace(/\.list$/, "");
      const there = document.components?.schemas?.[list + ".part"]?.properties;
      return there ? properties.filter((p) => !(p in there)).map((p) => `${path} has no ${p} any more, or not for this caller`).concat(Object.keys(there).filter((p) => !properties.includes(p)).map((p) => `${path} has ${p}, which this client does not know`)) : [];
    });
  }

  /** Compares the interfaces once, beside the first call. */
  #compare(): void {
    if (this.#compared) return;
    this.#compared = true;
    const tell = this.options.report ?? ((list) => console.warn("The service has another interface than this client was made from:\n" + list.join("\n")));
    this.differences().then((list) => { if (list.length) tell(list); }, () => {});
  }

  /** Sends a request, again where that is safe and may help, and reads JSON. */
  async send(call: Call): Promise<Answer> {
    const response = await this.open(call);
    const text = await response.text();
    return { status: response.status, headers: response.headers, value: text && /json/.test(response.headers.get("Content-Type") ?? "") ? decode(text, this.options.exact) : text || undefined };
  }

  /** Sends a request, and leaves the body of the answer to be read. */
  async open(call: Call): Promise<Response> {
    const { retries = 3 } = this.options;
    for (let tried = 0; ; tried++) {
      let problem: unknown;
      let wait = Math.min(200 * 2 ** tried, 10_000) * (0.5 + Math.random());
      let again = call.safe;
      try {
        const response = await this.#attempt(call, this.options.url);
        if (response.ok) {
          this.#compare();
          return response;
        }
        problem = await readProblem(response);
        again = response.status === 429 || (response.status === 503 && call.safe);
        const after = response.headers.get("Retry-After");
        if (after) wait = Math.max(wait, /^\d+$/.test(after) ? Number(after) * 1000 : Date.parse(after) - Date.now());
      } catch (e) {
        if (call.signal?.aborted) throw e;
        problem = e;
      }
      if (!again || tried >= retries || wait > longest) throw problem;
      await pause(wait, call.signal);
    }
  }

  async #attempt(call: Call, url: string): Promise<Response> {
    const { token, headers, timeout, fetch: send = fetch } = this.options;
    const known = typeof token === "function" ? await token() : token;
    const body = call.body === undefined ? undefined : call.body instanceof Blob || call.body instanceof Uint8Array || typeof call.body === "string" ? call.body : encode(call.body);
    let { signal } = call;
    let timer;
    if (timeout) {
      const late = new AbortController();
      timer = setTimeout(() => late.abort(new DOMException(`no answer in ${timeout} ms`, "TimeoutError")), timeout);
      signal = signal ? AbortSignal.any([signal, late.signal]) : late.signal;
    }
    try {
      return await send(`${url}/${target(call)}`, {
        method: call.method,
        headers: { Accept: "application/json", ...(body !== undefined && { "Content-Type": "application/json" }), ...(known && { Authorization: "Bearer " + known }), ...headers, ...call.headers },
        body: body as BodyInit | undefined,
        signal,
      });
    } finally {
      clearTimeout(timer);
    }
  }

  /** Sends the calls of a function in one transaction: all of them, or none. */
  async batch<const T extends readonly Promise<unknown>[]>(calls: (batch: Client) => T, sending: Sending = {}): Promise<{ -readonly [K in keyof T]: Awaited<T[K]> }> {
    const batch = new Batch({ ...this.options, made: false });
    const results = calls(batch);
    const waiting = Promise.allSettled(results);
    await batch.run(this, sending);
    await waiting;
    return (await Promise.all(results)) as { -readonly [K in keyof T]: Awaited<T[K]> };
  }
}

class Batch extends Client {
  readonly calls: { call: Call; done(a: Answer): void; fail(e: unknown): void }[] = [];
  override send(call: Call): Promise<Answer> {
    return new Promise((done, fail) => this.calls.push({ call, done, fail }));
  }
  async run(client: Client, sending: Sending): Promise<void> {
    for (let n = -1; n !== this.calls.length; await null) n = this.calls.length;
    const body = this.calls.map(({ call }) => {
      const { "Idempotency-Key": _, ...headers } = call.headers ?? {};
      return { method: call.method, path: "/" + target(call), headers: { ...(call.body !== undefined && { "Content-Type": "application/json" }), ...headers }, body: call.body };
    });
    try {
      const key = keyOf(client, sending);
      const answers = (await client.send({ method: "POST", path: "batch", body: { calls: body }, headers: key, signal: sending.signal, safe: "Idempotency-Key" in key })).value.answers as any[];
      answers.forEach((a, i) => this.calls[i]?.done({ status: a.status, value: a.body, headers: { get: (name) => Object.entries<string>(a.headers ?? {}).find(([k]) => k.toLowerCase() === name.toLowerCase())?.[1] ?? null } }));
    } catch (e) {
      for (const c of this.calls) c.fail(e);
    }
  }
}

const readProblem = async (response: Response) => {
  const text = await response.text().catch(() => "");
  try { return new Problem(response.status, JSON.parse(text)); } catch { return new Problem(response.status, { title: text.slice(0, 200) }); }
};

const keyOf = (client: Client, sending: Sending): Record<string, string> => {
  const key = sending.idempotencyKey ?? (client.options.idempotency ? crypto.randomUUID() : undefined);
  return key ? { "Idempotency-Key": key } : {};
};

const withText = (w: Record<string, any>, before = ""): string[] =>
  Object.entries(w).flatMap(([name, how]) => {
    if (!how) return [];
    const bounds = how === true ? [] : [how.limit !== undefined && `limit:${how.limit}`, how.sortby && `sortby:${how.sortby.join(",")}`, how.filter && `filter:${filterText(how.filter)}`].filter(Boolean);
    const at = before + name + (bounds.length ? `(${bounds.join(";")})` : "");
    const inner = how === true || !how.with ? [] : withText(how.with, before + name + ".");
    return [at, ...inner];
  });

const queryText = (q: any = {}): Record<string, string | undefined> => ({
  filter: q.filter === undefined ? undefined : filterText(q.filter),
  q: q.q, sortby: q.sortby?.join(","), after: q.after,
  with: q.with && withText(q.with).join(","),
  properties: q.properties?.join(","),
  limit: q.limit?.toString(), offset: q.offset?.toString(), count: q.count ? "true" : undefined,
});

const etags = new WeakMap<object, string>();
const matching = (row: unknown, sending: Sending): Record<string, string> => {
  const etag = sending.ifMatch === undefined ? (row !== null && typeof row === "object" ? etags.get(row) : undefined) : sending.ifMatch;
  return etag ? { "If-Match": etag } : {};
};

/** The facts of a resource. */
export interface Info {
  path: string;
  key: readonly string[];
  /** The paths of relations that do not follow from their names. */
  paths?: Record<string, string>;
  /** The keys of several columns of rows that can be linked, by relations. */
  ends?: Record<string, readonly string[]>;
}

/** A key as it stands in a path. */
const keyText = (key: unknown, names: readonly string[]): string => {
  const parts = key !== null && typeof key === "object" && !(key instanceof Date) ? names.map((n) => (key as any)[n]) : [key];
  return parts.map((p) => encodeURIComponent(p instanceof Date ? p.toISOString() : String(p))).join(",");
};

/** A key, or a row that has it. */
export type KeyOf<S extends Shape> = S["key"] | S["row"];
type Draft<S extends Shape, Given extends PropertyKey = never> = [Given] extends [never] ? S["draft"] : Without<S["draft"], Given>;

/** What a summary is asked for. */
export interface Measures<S extends Shape, B, M> extends Choice<S> { by?: B; measure?: M; having?: string; limit?: number; offset?: number }
type Measure<S extends Shape> = "count" | `${"sum" | "avg" | "min" | "max" | "count"}(${Names<S["row"]>})`;
/** Measures are named as in sum_frames, or sumFrames where names are in camel case. */
type Named<M extends string> = M extends `${infer F}(${infer C})` ? `${F}_${C}` : M;
type Group<S extends Shape, B, M> = ([B] extends [readonly (infer C)[]] ? Pick<S["row"], C & keyof S["row"]> : unknown) & ([M] extends [readonly (infer N extends string)[]] ? { [K in N as Named<K>]: number | string | null } : unknown);

/** The values of an answer in NDJSON. Those that came together are read together. */
class Lines implements AsyncIterableIterator<any> {
  readonly #open: () => Promise<Response>;
  readonly #exact: boolean | undefined;
  readonly #decoder = new TextDecoder();
  #reader: ReadableStreamDefaultReader<Uint8Array> | undefined;
  #rest = "";
  #ready: any[] = [];
  #at = 0;
  readonly #done: (rows: any[]) => any[];
  constructor(open: () => Promise<Response>, done: (rows: any[]) => any[], exact?: boolean) { this.#open = open; this.#done = done; this.#exact = exact; }
  [Symbol.asyncIterator]() { return this; }
  next(): Promise<IteratorResult<any>> {
    return this.#at < this.#ready.length ? Promise.resolve({ done: false, value: this.#ready[this.#at++] }) : this.#more();
  }
  async #more(): Promise<IteratorResult<any>> {
    this.#reader ??= (await this.#open()).body!.getReader();
    for (;;) {
      const { done, value } = await this.#reader.read();
      const text = this.#rest + (done ? this.#decoder.decode() : this.#decoder.decode(value, { stream: true }));
      const end = done ? text.length : text.lastIndexOf("\n");
      this.#rest = text.slice(Math.max(end, 0));
      const lines = text.slice(0, Math.max(end, 0)).trim();
      if (lines) {
        [this.#ready, this.#at] = [this.#done(decode("[" + lines.replaceAll("\n", ",") + "]", this.#exact)), 1];
        return { done: false, value: this.#ready[0] };
      }
      if (done) return { done: true, value: undefined };
    }
  }
  async return(): Promise<IteratorResult<any>> {
    await this.#reader?.cancel().catch(() => {});
    return { done: true, value: undefined };
  }
}

class Collection<S extends Shape> {
  protected readonly client: Client;
  protected readonly path: string;
  /** The resource of the rows. */
  protected readonly name: string | undefined;
  constructor(client: Client, path: string, name: string | undefined) { this.client = client; this.path = path; this.name = name; }
  protected dated(rows: any): any { return dated(rows, this.name, this.client.options.dates); }
  /** Keeps the ETag of a row with it, for the write that follows. */
  protected kept(a: Answer): any {
    const etag = a.headers.get("ETag");
    if (etag && a.value && typeof a.value === "object") etags.set(a.value, etag);
    return this.dated(a.value);
  }

  /** Reads a page of rows. */
  async list<const W extends With<S> = {}, const P extends readonly Names<S["row"]>[] | undefined = undefined>(query: Query<S, Exact<W, S>, P> = {}): Promise<Page<Row<S, W, P>>> {
    const { value } = await this.client.send({ method: "GET", path: this.path, query: queryText(query), signal: query.signal, safe: true });
    this.dated(value?.items);
    return value;
  }
  /** Goes through all rows, page by page. */
  async *all<const W extends With<S> = {}, const P extends readonly Names<S["row"]>[] | undefined = undefined>(query: Query<S, Exact<W, S>, P> = {}): AsyncGenerator<Row<S, W, P>> {
    for (let after = query.after; ; ) {
      const page: Page<Row<S, W, P>> = await this.list<W, P>({ ...query, after });
      yield* page.items;
      if (!(after = page.next)) return;
    }
  }
  /** Goes through all rows of one answer as they come, in constant memory; once. */
  stream<const P extends readonly Names<S["row"]>[] | undefined = undefined>(query: Choice<S> & { properties?: P } = {}): AsyncIterableIterator<Row<S, unknown, P>> {
    return new Lines(() => this.client.open({ method: "GET", path: this.path, query: { ...queryText(query), limit: "none" }, headers: { Accept: "application/x-ndjson" }, signal: query.signal, safe: true }), (rows) => this.dated(rows), this.client.options.exact);
  }
}

/** All that can be done with a resource. */
export class Resource<S extends Shape> extends Collection<S> {
  readonly info: Info;
  constructor(client: Client, info: Info) { super(client, info.path, info.path); this.info = info; }

  /** Reads values of groups of rows. */
  async summary<const B extends readonly Names<S["row"]>[] | undefined = undefined, const M extends readonly Measure<S>[] | undefined = undefined>(query: Measures<S, B, M>): Promise<Group<S, B, M>[]> {
    const { sortby, filter, q, limit, offset } = queryText(query);
    return (await this.client.send({ method: "GET", path: this.path + "/summary", query: { sortby, filter, q, limit, offset, by: query.by?.join(","), measure: query.measure?.join(","), having: query.having }, signal: query.signal, safe: true })).value.items.map((row: any) => this.dated(row));
  }
  /** The path of a row. */
  at(key: KeyOf<S>): string { return this.path + "/" + keyText(key, this.info.key); }
  /** Reads a row; a Problem of status 404 where there is none. */
  async get<const W extends With<S> = {}, const P extends readonly Names<S["row"]>[] | undefined = undefined>(key: KeyOf<S>, query: { with?: Exact<W, S>; properties?: P; signal?: AbortSignal } = {}): Promise<Row<S, W, P>> {
    return this.kept(await this.client.send({ method: "GET", path: this.at(key), query: queryText(query), signal: query.signal, safe: true }));
  }
  /** Reads a row, or null where there is none. */
  async find<const W extends With<S> = {}, const P extends readonly Names<S["row"]>[] | undefined = undefined>(key: KeyOf<S>, query: { with?: Exact<W, S>; properties?: P; signal?: AbortSignal } = {}): Promise<Row<S, W, P> | null> {
    return this.get<W, P>(key, query).catch((e) => { if (e instanceof Problem && e.status === 404) return null; throw e; });
  }
  /** Stores a row, and returns it as it is stored. */
  async create(row: S["draft"], sending: Sending = {}): Promise<S["row"]> {
    return this.kept(await post(this.client, this.path, row, sending));
  }
  /** Stores many rows: all of them, or none. */
  async createAll(rows: readonly S["draft"][], sending: Sending = {}): Promise<S["row"][]> {
    return this.dated((await post(this.client, this.path, rows, sending)).value.items);
  }
  /** Puts a row in the place of another. What is left out has its default, or is null. */
  async replace(key: KeyOf<S>, row: S["draft"], sending: Sending = {}): Promise<S["row"]> {
    return this.kept(await this.client.send({ method: "PUT", path: this.at(key), body: row, headers: matching(key, sending), signal: sending.signal, safe: true }));
  }
  /** Changes a row: what is left out stays. A row that was read must not have changed since. */
  async patch(key: KeyOf<S>, changes: S["patch"], sending: Sending = {}): Promise<S["row"]> {
    const headers = matching(key, sending);
    return this.kept(await this.client.send({ method: "PATCH", path: this.at(key), body: changes, headers: { "Content-Type": "application/merge-patch+json", ...headers }, signal: sending.signal, safe: !("If-Match" in headers) }));
  }
  /** Deletes a row. A row that was read must not have changed since. */
  async delete(key: KeyOf<S>, sending: Sending = {}): Promise<void> {
    const headers = matching(key, sending);
    await this.client.send({ method: "DELETE", path: this.at(key), headers, signal: sending.signal });
  }
  /** Changes all rows that a filter chooses, and returns how many. */
  async patchAll(filter: Filter<S>, changes: S["patch"], sending: Sending = {}): Promise<number> {
    return (await this.client.send({ method: "PATCH", path: this.path, query: { filter: filterText(filter) }, body: changes, headers: { "Content-Type": "application/merge-patch+json" }, signal: sending.signal })).value.count;
  }
  /** Deletes all rows that a filter chooses, and returns how many. */
  async deleteAll(filter: Filter<S>, sending: Sending = {}): Promise<number> {
    return (await this.client.send({ method: "DELETE", path: this.path, query: { filter: filterText(filter) }, signal: sending.signal })).value.count;
  }
  /** The rows that a relation leads to. */
  of<R extends Names<S["relations"]>>(key: KeyOf<S>, relation: R): Related<S["relations"][R & keyof S["relations"]]> {
    return new Relation(this.client, this.at(key) + "/" + (this.info.paths?.[relation] ?? relation.replaceAll("_", "-")), this.client.options.dates?.[this.info.path]?.to[relation], this.info.ends?.[relation]) as any;
  }
  /** The bytes of a binary column. */
  async content(key: KeyOf<S>, column: S["contents"], signal?: AbortSignal): Promise<Blob> {
    return (await this.client.open({ method: "GET", path: this.at(key) + "/" + column, headers: { Accept: "*/*" }, signal, safe: true })).blob();
  }
  /** Stores the bytes of a binary column. */
  async setContent(key: KeyOf<S>, column: S["contents"], bytes: Blob | Uint8Array, sending: Sending = {}): Promise<void> {
    await this.client.send({ method: "PUT", path: this.at(key) + "/" + column, body: bytes, headers: { "Content-Type": (bytes instanceof Blob && bytes.type) || "application/octet-stream", ...matching(key, sending) }, signal: sending.signal, safe: true });
  }
}

const post = async (client: Client, path: string, body: unknown, sending: Sending) => {
  const key = keyOf(client, sending);
  return client.send({ method: "POST", path, body, headers: key, signal: sending.signal, safe: "Idempotency-Key" in key });
};

/** The rows that a relation of one row leads to. */
class Relation<S extends Shape> extends Collection<S> {
  readonly #key: readonly string[];
  constructor(client: Client, path: string, name: string | undefined, key: readonly string[] = []) { super(client, path, name); this.#key = key; }
  /** Reads the row at the end; null where there is none. */
  async get<const W extends With<S> = {}>(query: { with?: Exact<W, S>; signal?: AbortSignal } = {}): Promise<Row<S, W> | null> {
    return this.kept(await this.client.send({ method: "GET", path: this.path, query: queryText(query), signal: query.signal, safe: true }).catch((e) => { if (e instanceof Problem && e.status === 404) return { value: null, headers: new Headers(), status: 404 }; throw e; }));
  }
  /** Stores a row that belongs to the one here. */
  async create(row: S["draft"], sending: Sending = {}): Promise<S["row"]> {
    return this.kept(await post(this.client, this.path, row, sending));
  }
  /** Links a row; linking it again changes nothing. */
  async link(key: unknown, sending: Sending = {}): Promise<void> {
    await this.client.send({ method: "PUT", path: this.path + "/" + keyText(key, this.#key), signal: sending.signal, safe: true });
  }
  /** Takes the link away; taking it away again changes nothing. */
  async unlink(key: unknown, sending: Sending = {}): Promise<void> {
    await this.client.send({ method: "DELETE", path: this.path + "/" + keyText(key, this.#key), signal: sending.signal, safe: true });
  }
}
type Related<R> =
  R extends { one: infer T extends Shape } ? Pick<Relation<T>, "get">
  : R extends { many: infer T extends Shape; given: infer G extends string } ? Pick<Relation<T>, "list" | "all" | "stream"> & { create(row: Draft<T, G>, sending?: Sending): Promise<T["row"]> }
  : R extends { many: infer T extends Shape; linked: true } ? Pick<Relation<T>, "list" | "all" | "stream"> & { link(key: T["key"], sending?: Sending): Promise<void>; unlink(key: T["key"], sending?: Sending): Promise<void> }
  : R extends { many: infer T extends Shape } ? Pick<Relation<T>, "list" | "all" | "stream"> : never;

type Reading = "list" | "all" | "stream" | "summary" | "info";
type ByKey = "get" | "find" | "of" | "content" | "at";
type Writing = "create" | "createAll" | "replace" | "patch" | "delete" | "setContent";
/** A view. */
export type View<S extends Shape> = Pick<Resource<S>, Reading>;
/** A view with a key. */
export type KeyedView<S extends Shape> = Pick<Resource<S>, Reading | ByKey>;
/** A table without a key. */
export type Keyless<S extends Shape> = Pick<Resource<S>, Reading | "create" | "createAll">;
/** A table. */
export type Table<S extends Shape> = Pick<Resource<S>, Reading | ByKey | Writing>;
/** A table of which many rows can be changed by a filter. */
export type BulkTable<S extends Shape> = Resource<S>;

/** Makes the function that calls a resource by a client. */
export const resource = <T>(path: string, key: readonly string[], more: Pick<Info, "paths" | "ends"> = {}) => (client: Client): T => new Resource<any>(client, { path, key, ...more }) as T;

/** Calls a named query or routine. */
export const call = async (client: Client, method: string, path: string, args: object, sending: Sending): Promise<any> => {
  const reading = method === "GET";
  const query = new URLSearchParams();
  if (reading) for (const [name, v] of Object.entries(args)) for (const one of Array.isArray(v) ? v : [v]) if (one !== undefined && one !== null) query.append(name, String(one));
  return (await client.send({ method, path: path + (query.size ? "?" + query : ""), body: reading ? undefined : args, signal: sending.signal, safe: reading })).value;
};
