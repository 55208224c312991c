// Walks through all resources by the client: each row is read in every way there is,
// found again by each of its values, and stored again as it was read.
import assert from "node:assert/strict";
import { pathToFileURL } from "node:url";

const [folder, url] = process.argv.slice(2);
const { connect, Problem, Decimal } = await import(pathToFileURL(folder + "/dist/index.js").href);
const reports = [];
let asked = 0;
const api = connect({ url, retries: 0, report: (list) => reports.push(list), fetch: async (...args) => {
  const answer = await fetch(...args);
  if (String(args[0]).endsWith("/openapi.json")) { asked++; assert.equal(answer.status, 304, "the interface is the one that the client was made from"); }
  return answer;
} });
const told = { resources: 0, rows: 0, found: 0, stored: 0, related: 0 };

// problem is what the service says against a call; anything else is an error of the client.
const problem = async (call) => {
  try { await call(); } catch (e) {
    assert(e instanceof Problem && e.status >= 400 && e.status < 500, e);
    return e;
  }
};

for (const [name, resource] of Object.entries(api)) {
  if (name === "client" || name === "call") continue;
  told.resources++;
  const { items } = await resource.list({ limit: 3, count: true });
  const streamed = [];
  for await (const row of resource.stream()) streamed.push(row);
  let paged = 0;
  for await (const row of resource.all({ limit: 2 })) paged++;
  assert.equal(paged, streamed.length, name);
  assert.deepEqual(streamed.slice(0, items.length).length, items.length, name);
  for (const row of items) {
    told.rows++;
    for (const [column, value] of Object.entries(row)) {
      if (value === null || typeof value === "object" || column.endsWith("_url")) continue;
      for (const literal of typeof value === "string" && /^-?\d+(\.\d+)?$/.test(value) ? [value, new Decimal(value)] : [value]) {
        let found;
        const refused = await problem(async () => { found = (await resource.list({ filter: (c) => c[column].is(literal), limit: 1000 })).items; });
        if (refused) continue;
        assert(found.some((x) => JSON.stringify(x[column], plain) === JSON.stringify(value, plain)), `${name}.${column} = ${String(value)} finds its row`);
        told.found++;
      }
    }
    if (!resource.info.key.length) continue;
    const one = await resource.get(row);
    for (const column of Object.keys(row)) if (!column.endsWith("_url")) assert.deepEqual(one[column], row[column], name + "." + column);
    if (!(await problem(() => resource.patch(one, {})))) {
      assert.deepEqual(await resource.find(row), one, name + " after a patch of nothing");
      told.stored++;
    }
    for (const relation of await relations(resource, row)) {
      const end = resource.of(row, relation);
      await problem(async () => { await end.list({ limit: 2 }); told.related++; });
    }
  }
}
await new Promise((done) => setTimeout(done, 100));
assert.deepEqual(reports, []);
assert.equal(asked, 1);
console.log(JSON.stringify(told));

// relations are those that the service knows of a resource.
async function relations(resource, row) {
  const refused = await problem(() => resource.get(row, { with: { "no such relation": true } }));
  return [...new Set((refused?.message.match(/[a-z_0-9]+/g) ?? []))].filter((word) => word.length > 2).slice(0, 12);
}

function plain(_, v) { return typeof v === "bigint" ? String(v) : v; }
