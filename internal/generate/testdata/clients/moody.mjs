// Holds the client to what it promises where a service is slow, away or in between.
import assert from "node:assert/strict";
import { createServer } from "node:http";
import { pathToFileURL } from "node:url";

const folder = process.argv[2];
const { Client, Problem, Decimal, hives, batchHarvests, apiaries, and, or, not, cql } = await import(pathToFileURL(folder + "/dist/index.js").href);
const { decode, encode, resource } = await import(pathToFileURL(folder + "/dist/client.js").href);

let answers = [];
let seen = [];
const server = createServer((request, response) => {
  let body = "";
  request.on("data", (part) => (body += part)).on("end", () => {
    seen.push({ method: request.method, url: decodeURIComponent(request.url), headers: request.headers, body });
    const { status = 200, headers = {}, text = "{}", cut, hang } = answers.shift() ?? {};
    if (hang) return;
    if (cut) return void request.socket.destroy();
    response.writeHead(status, { "Content-Type": "application/json", ...headers }).end(text);
  });
});
await new Promise((done) => server.listen(0, "127.0.0.1", done));
const url = `http://127.0.0.1:${server.address().port}/api`;

const problem = (status, more = {}) => ({ status, headers: { "Content-Type": "application/problem+json", ...more }, text: JSON.stringify({ type: "about:blank", title: "no", status, detail: "not now" }) });
const away = problem(503, { "Retry-After": "0" });
const cases = {
  async "a read is sent again when the service is away"() {
    answers = [away, { cut: true }, problem(429, { "Retry-After": "0" }), { text: '{"items":[]}' }];
    assert.deepEqual(await hives(client()).list(), { items: [] });
    assert.equal(seen.length, 4);
  },
  async "it is given up after some tries"() {
    answers = [away, away, away, away, away];
    await assert.rejects(hives(client({ retries: 2 })).list(), (e) => e instanceof Problem && e.status === 503 && e.detail === "not now");
    assert.equal(seen.length, 3);
  },
  async "a new row is not sent again, since it may be stored"() {
    for (const answer of [away, { cut: true }]) {
      seen = [];
      answers = [answer, {}];
      await assert.rejects(hives(client()).create({ name: "a", apiary_id: 1 }));
      assert.equal(seen.length, 1);
    }
    seen = [];
    answers = [problem(429, { "Retry-After": "0" }), { status: 201 }];
    await hives(client()).create({ name: "a", apiary_id: 1 });
    assert.equal(seen.length, 2, "429 says that nothing was done");
  },
  async "with an idempotency key it is, under the same key"() {
    answers = [away, { cut: true }, { status: 201, text: '{"id":1}' }];
    assert.deepEqual(await hives(client({ idempotency: true })).create({ name: "a", apiary_id: 1 }), { id: 1 });
    const keys = new Set(seen.map((s) => s.headers["idempotency-key"]));
    assert.equal(seen.length, 3);
    assert.equal(keys.size, 1);
    assert.match([...keys][0], /^[0-9a-f-]{36}$/);
  },
  async "Retry-After is waited for"() {
    answers = [problem(503, { "Retry-After": "1" }), {}];
    const start = Date.now();
    await hives(client()).list();
    assert(Date.now() - start >= 950);
  },
  async "but not for an hour"() {
    answers = [problem(503, { "Retry-After": "3600" })];
    await assert.rejects(hives(client()).list(), (e) => e.status === 503);
    assert.equal(seen.length, 1);
  },
  async "a signal ends a request, and the wait between two"() {
    for (const answer of [{ hang: true }, problem(503, { "Retry-After": "20" })]) {
      answers = [answer];
      const stop = new AbortController();
      setTimeout(() => stop.abort(new Error("enough")), 100);
      const start = Date.now();
      await assert.rejects(hives(client()).list({ signal: stop.signal }), /enough|aborted/);
      assert(Date.now() - start < 2000);
    }
  },
  async "an attempt has a time limit"() {
    answers = [{ hang: true }, { hang: true }];
    await assert.rejects(hives(client({ timeout: 80, retries: 1 })).list(), (e) => e.name === "TimeoutError");
    assert.equal(seen.length, 2);
  },
  async "the token is asked for each time"() {
    let n = 0;
    answers = [away, {}];
    await hives(client({ token: async () => "t" + ++n })).list();
    assert.deepEqual(seen.map((s) => s.headers.authorization), ["Bearer t1", "Bearer t2"]);
  },
  async "the ETag of a row goes with its change, and other rows have none"() {
    const table = hives(client());
    answers = [{ headers: { ETag: '"1"' }, text: '{"id":7}' }, { headers: { ETag: '"2"' }, text: '{"id":7}' }, {}, {}, {}, {}];
    const row = await table.get(7);
    const changed = await table.patch(row, { frames: 1 });
    await table.delete(changed);
    await table.patch(7, { frames: 1 });
    await table.patch(row, { frames: 1 }, { ifMatch: false });
    await table.patch(7, { frames: 1 }, { ifMatch: '"9"' });
    assert.deepEqual(seen.map((s) => s.headers["if-match"]), [undefined, '"1"', '"2"', undefined, undefined, '"9"']);
    assert.equal(seen[1].headers["content-type"], "application/merge-patch+json");
  },
  async "faults are found by their properties"() {
    answers = [{ status: 422, headers: { "Content-Type": "application/problem+json" }, text: JSON.stringify({ status: 422, title: "Unprocessable Entity", detail: "two values", errors: [{ pointer: "#/a~1b", detail: "one" }, { pointer: "#/a~1b/c", detail: "two" }, { pointer: "#/ab", detail: "three" }] }) }];
    await assert.rejects(hives(client()).create({ name: "a", apiary_id: 1 }), (e) => e.message === "two values" && e.fault("a/b") === "one; two" && e.fault("x") === "" && e.faults.length === 3);
  },
  async "an answer that is no problem document is an error too"() {
    answers = [{ status: 502, headers: { "Content-Type": "text/html" }, text: "<h1>Bad gateway</h1>" }];
    await assert.rejects(hives(client({ retries: 0 })).list(), (e) => e instanceof Problem && e.status === 502);
  },
  async "keys and rows lead to their paths"() {
    answers = [{}, {}, {}, {}, {}];
    await batchHarvests(client()).get({ batch_id: 1, harvest_id: 2 });
    await batchHarvests(client()).get({ batch_id: "a,b", harvest_id: "c/d" });
    await hives(client()).get({ id: 7, name: "x" });
    await hives(client()).of(7, "sensor_readings").list();
    await resource("plots", ["id"], { paths: { near_to: "next-to" }, ends: { near_to: ["row", "column"] } })(client()).of(1, "near_to").link({ column: 2, row: "a b" });
    assert.equal(seen.pop().url, "/api/plots/1/next-to/a b,2");
    assert.deepEqual(seen.map((s) => s.url), ["/api/batch-harvests/1,2", "/api/batch-harvests/a,b,c/d", "/api/hives/7", "/api/hives/7/sensor-readings"]);
  },
  async "filters are written with their quotes"() {
    const text = (f) => { answers = [{}]; return hives(client()).list({ filter: f }).then(() => new URL(url + seen.pop().url.replaceAll("+", " ")).searchParams.get("filter")); };
    assert.equal(await text((h) => h.name.is("it's")), "name = 'it''s'");
    assert.equal(await text((h) => and(h.frames.more(8), not(h.apiary.name.like("N%")), or(h["odd name"].is(true), h.weight_kg.is(null)))), `(frames > 8 AND NOT (apiary.name LIKE 'N%') AND ("odd name" = TRUE OR weight_kg IS NULL))`);
    assert.equal(await text((h) => h.name.is("\\")), "name = '\\\\'");
    assert.equal(await text((h) => h.name.is("\\' OR 1 = 1 OR name = '")), "name = '\\\\'' OR 1 = 1 OR name = '''");
    assert.equal(await text((h) => h.name.is("C:\\bees")), "name = 'C:\\bees'");
    assert.equal(await text((h) => h.date.is("a")), `"date" = 'a'`);
    assert.equal(await text((h) => h.frames.in([])), "1 = 0");
    assert.equal(await text((h) => h.weight_kg.between(new Decimal("1.50"), 12n)), "weight_kg BETWEEN 1.50 AND 12");
    assert.equal(await text((h) => h.created_at.atLeast(new Date(0))), "created_at >= '1970-01-01T00:00:00.000Z'");
    assert.equal(await text((h) => h.name.likeFold("a%")), "CASEI(name) LIKE CASEI('a%')");
    assert.equal(await text(cql("a = 1")), "a = 1");
    assert.throws(() => new Decimal("1; drop"), TypeError);
  },
  async "relations are asked for with their bounds"() {
    answers = [{}];
    await apiaries(client()).list({ with: { keeper: true, hives: { limit: 5, sortby: ["-name", "id"], filter: (h) => h.frames.more(8), with: { queen: true } } } });
    assert.equal(new URL(url + seen[0].url.replaceAll("+", " ")).searchParams.get("with"), "keeper,hives(limit:5;sortby:-name,id;filter:frames > 8),hives.queen");
  },
  async "another interface is told of, once"() {
    const document = { paths: { "/api/hives": { get: { responses: { 200: { $ref: "#/components/responses/Hive.list" } } } } }, components: { schemas: { "Hive.part": { properties: { id: {}, colour: {} } } } } };
    const reports = [];
    const made = async () => ({ made: { etag: '"1"', base: "/api", resources: { hives: ["id", "name"], queens: ["id"] } } });
    const one = client({ made, report: (list) => reports.push(list) });
    answers = [{}, { text: JSON.stringify(document) }, {}];
    await hives(one).list();
    await new Promise((done) => setTimeout(done, 100));
    await hives(one).list();
    assert.deepEqual(reports, [["hives has no name any more, or not for this caller", "hives has colour, which this client does not know", "there is no queens any more, or not for this caller"]]);
    assert.deepEqual(seen.map((s) => [s.url, s.headers["if-none-match"]]), [["/api/hives", undefined], ["/openapi.json", '"1"'], ["/api/hives", undefined]]);
    answers = [{}, { status: 304 }];
    seen = [];
    await hives(client({ made, report: (list) => reports.push(list) })).list();
    await new Promise((done) => setTimeout(done, 100));
    assert.equal(reports.length, 1);
  },
  "no digit is lost"() {
    const big = '{"a":9007199254740993,"b":"9007199254740993","c":[-9223372036854775808, 1.1234567890123456789, 12]}';
    assert.deepEqual(decode(big, true), { a: 9007199254740993n, b: "9007199254740993", c: [-9223372036854775808n, 1.1234567890123457, 12] });
    assert.throws(() => decode(big), /more digits/);
    assert.equal(encode({ a: 9007199254740993n, b: "9007199254740993" }), '{"a":9007199254740993,"b":"9007199254740993"}');
    assert.deepEqual(decode(encode({ s: '#x:1"\\ 12345678901234567', n: [1, null, "é"] }), true), { s: '#x:1"\\ 12345678901234567', n: [1, null, "é"] });
  },
};

const client = (more = {}) => new Client({ url, ...more });
for (const [name, run] of Object.entries(cases)) {
  seen = [];
  answers = [];
  try { await run(); } catch (e) { console.error(`${name}: ${e.stack}`); process.exitCode = 1; }
}
server.closeAllConnections();
server.close();
console.log(Object.keys(cases).length);
