// An independent client of the protocol uses the functions over both transports.
import assert from "node:assert/strict";
import { Client } from "@modelcontextprotocol/sdk/client/index.js";
import { StdioClientTransport } from "@modelcontextprotocol/sdk/client/stdio.js";
import { StreamableHTTPClientTransport } from "@modelcontextprotocol/sdk/client/streamableHttp.js";
import { ElicitRequestSchema, ToolListChangedNotificationSchema } from "@modelcontextprotocol/sdk/types.js";

const [how, ...where] = process.argv.slice(2);
const client = new Client({ name: "independent", version: "1" }, { capabilities: { elicitation: {} } });
let asked = 0;
client.setRequestHandler(ElicitRequestSchema, async () => (asked++, { action: "accept", content: { confirm: true } }));
let changed = 0;
client.setNotificationHandler(ToolListChangedNotificationSchema, () => void changed++);
await client.connect(how === "stdio" ? new StdioClientTransport({ command: where[0], args: where.slice(1) }) : new StreamableHTTPClientTransport(new URL(where[0])));

const { tools } = await client.listTools();
for (const tool of tools) {
  assert.ok(tool.description && tool.inputSchema.type === "object" && tool.annotations, tool.name);
  if (tool.outputSchema) assert.equal(tool.outputSchema.type, "object", tool.name);
}
const call = async (name, args, options) => {
  const result = await client.callTool({ name, arguments: args }, undefined, options);
  if (result.isError) throw new Error(result.content[0].text);
  assert.deepEqual(JSON.parse(result.content[0].text), result.structuredContent);
  return result.structuredContent;
};
// Pages of results.
let rows = 0;
for (let after; ; ) {
  const page = await call("list", { resource: "hives", limit: 20, properties: ["id"], ...(after && { after }) });
  rows += page.items.length;
  if (!(after = page.next)) break;
}
const count = (await call("summarize", { resource: "hives", measure: ["count"] })).items[0].count;
assert.equal(rows, count);
// Errors say what to send instead.
await assert.rejects(call("list", { resource: "boxes" }), /there is no resource "boxes"/);
await assert.rejects(call("list", { resource: "hives", filter: "frame > 3" }), /have no property "frame"; they have/);
await assert.rejects(call("create", { resource: "hives", row: { name: "x".repeat(99), apiary_id: 1 } }), /name: at most 60 characters; got 99/);
await assert.rejects(client.callTool({ name: "fly", arguments: {} }), /fly/);
// A change, a look at one, and a delete that is asked about.
const { row } = await call("create", { resource: "forages", row: { name: "Sea holly", blooms_from: 6, blooms_to: 8 } });
assert.equal((await call("change", { resource: "forages", key: row.id, changes: { latin_name: "Eryngium" }, dry_run: true })).row.latin_name, "Eryngium");
assert.equal((await call("get", { resource: "forages", key: row.id })).row.latin_name, null);
assert.equal((await call("delete", { resource: "forages", key: row.id })).done, true);
assert.equal(asked, 1);
// Many at once, and one that is given up.
await Promise.all(Array.from({ length: 20 }, (_, i) => call("get", { resource: "hives", key: i + 1 })));
const stop = new AbortController();
const given = call("list", { resource: "hives" }, { signal: stop.signal });
stop.abort("enough");
await assert.rejects(given, /enough|abort/i);
const { resources } = await client.listResources();
assert.ok(resources.some((r) => r.uri === "schema:///tables/hives"));
assert.match((await client.readResource({ uri: "schema:///tables/hives" })).contents[0].text, /temperament/);
await client.ping();
if (how === "stdio") assert.match((await client.readResource({ uri: "schema:///diagram.svg" })).contents[0].text, /^<(\?xml|svg)/);
console.log(JSON.stringify({ tools: tools.length, characters: JSON.stringify(tools).length, rows }));

if (process.env.BEES) {
  // When the schema changes, so does what there is.
  const { execFileSync } = await import("node:child_process");
  execFileSync("sqlite3", [process.env.BEES, `CREATE TABLE ${process.env.TABLE} (id INTEGER PRIMARY KEY, fuel TEXT NOT NULL);
    CREATE VIEW slow_${process.env.TABLE} AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c WHERE x < 4000000) SELECT count(*) AS n FROM c`]);
  for (let i = 0; i < 100 && !changed; i++) await new Promise((done) => setTimeout(done, 200));
  assert.ok(changed > 0, "the client is told");
  assert.deepEqual((await call("list", { resource: process.env.TABLE + "s" })).items, []);
  // A call that takes long tells that it goes on, and can be given up.
  let told = 0;
  assert.equal((await call("list", { resource: `slow-${process.env.TABLE}s` }, { onprogress: () => told++ })).items[0].n, "4000000");
  assert.ok(told > 0, "progress");
  const late = new AbortController();
  setTimeout(() => late.abort("enough"), 300);
  const start = Date.now();
  await assert.rejects(call("list", { resource: `slow-${process.env.TABLE}s` }, { signal: late.signal }), /enough|abort/i);
  assert.ok(Date.now() - start < 2000);
}
await client.close();
process.exit(0);
