// Points in time are Dates wherever they come from.
import assert from "node:assert/strict";
import { pathToFileURL } from "node:url";

const { connect, hives } = await import(pathToFileURL(process.argv[2] + "/dist/index.js").href);
const bees = connect({ url: process.argv[3] });
const isTime = (at) => assert.ok(at instanceof Date && at.getTime() > 0, String(at));

const hive = await bees.hives.get(7, { with: { apiary: true, inspections: { limit: 1 } } });
isTime(hive.created_at);
isTime(hive.apiary.created_at);
assert.equal(typeof hive.acquired_on, "string", "a day is a text");
const { items } = await bees.hives.list({ filter: (h) => h.created_at.is(hive.created_at), limit: 100 });
assert.ok(items.some((h) => h.id === 7), "a Date finds its row");
for await (const row of bees.hives.stream({ properties: ["created_at"] })) isTime(row.created_at);
for await (const row of bees.apiaries.of(1, "hives").all({ limit: 3 })) isTime(row.created_at);
isTime((await bees.hives.of(7, "apiary").get()).created_at);
const [group] = await bees.hives.summary({ by: ["created_at"], measure: ["count"], limit: 1 });
isTime(group.created_at);

const visit = await bees.inspections.create({ hive_id: 1, keeper_id: 1, done_on: "2031-05-01", started_at: new Date(1e12) });
assert.equal(visit.started_at.getTime(), 1e12);
const again = await bees.inspections.patch(visit, { started_at: new Date(2e12) });
assert.equal(again.started_at.getTime(), 2e12);
assert.equal((await bees.inspections.patch(again, { started_at: null })).started_at, null);
const [one] = await bees.client.batch((b) => [hives(b).get(7)]);
isTime(one.created_at);
await bees.inspections.delete(visit.id);

const found = await bees.call.searchHives({ most: 2 });
isTime(found[0].hive.created_at);
isTime(found[0].apiary.created_at);
isTime((await bees.call.hivesOfKeepers({ keepers: [1, 2, 3, 4, 5, 6, 7, 8, 9] }))[0].created_at);
