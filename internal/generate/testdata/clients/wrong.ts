// Uses that must not compile, each with a part of what the compiler says.
import { and, connect, Decimal, hives, or, Problem, type Hive, type NewHive, type Row } from "./index.ts";
import type { HiveShape } from "./resources/hive.ts";

const api = connect({ url: "http://localhost:8080/api" });
const hive = {} as Hive;

// What compiles.
export const right = async () => {
  const page = await api.hives.list({ with: { apiary: { with: { keeper: true } }, inspections: { limit: 2, sortby: ["-done_on"] } }, properties: ["id", "name"], filter: (h) => and(h.frames.more(8), h.apiary.name.like("N%"), or(h.temperament.in(["calm", "fierce"]), h.weight_kg.is(null))), sortby: ["-frames", "name"] });
  const names: string[] = page.items.map((h) => h.name + h.apiary?.keeper?.name + h.inspections[0]?.notes);
  const draft: NewHive = { name: "a", apiary: { name: "b", keeper_id: 1, registered_on: "2026-01-01" }, inspections: [{ keeper_id: 1, done_on: "2026-01-01" }] };
  const stored: Hive = await api.hives.create(draft);
  await api.hives.patch(stored, { weight_kg: null, temperament: "calm" });
  await api.hives.of(7, "inspections").create({ keeper_id: 1, done_on: "2026-01-01" });
  await api.apiaries.of(1, "forages").link(2);
  await api.batchHarvests.get({ batch_id: 1, harvest_id: 2 });
  const sums: { temperament: string; sum_frames: unknown }[] = await api.hives.summary({ by: ["temperament"], measure: ["count", "sum(frames)"] });
  const rows: [Hive, { items: Hive[] }] = await api.client.batch((b) => [hives(b).get(7), hives(b).list()]);
  for await (const row of api.hiveOverviews.stream({ properties: ["hive_id"] })) void row.hive_id;
  const embedded: Row<HiveShape, { apiary: true }> = await api.hives.get(1, { with: { apiary: true } });
  return [names, sums, rows, embedded, new Decimal("1.50"), Problem];
};

export const wrong = async () => {
  await api.hive.list(); //! Property 'hive' does not exist
  await api.hives.list({ sortby: ["-frame"] }); //! "-frame"' is not assignable
  await api.hives.list({ sortby: ["+frames"] }); //! is not assignable
  await api.hives.list({ limit: "5" }); //! Type 'string' is not assignable to type 'number'
  await api.hives.list({ where: "a" }); //! 'where' does not exist
  await api.hives.list({ properties: ["colour"] }); //! "colour"' is not assignable
  await api.hives.list({ with: { colour: true } }); //! 'colour' does not exist
  await api.hives.list({ with: { apiary: true, colour: true } }); //! is not assignable to type 'never'
  await api.hives.list({ with: { inspections: { limit: "5" } } }); //! is not assignable
  await api.hives.list({ with: { inspections: { sortby: ["-colour"] } } }); //! is not assignable
  await api.hives.list({ filter: (h) => h.colour.is("a") }); //! Property 'colour' does not exist
  await api.hives.list({ filter: (h) => h.frames.is("a") }); //! 'string' is not assignable to parameter of type 'number'
  await api.hives.list({ filter: (h) => h.frames.like("a") }); //! is not assignable to
  await api.hives.list({ filter: (h) => h.temperament.is("angry") }); //! "angry"' is not assignable
  await api.hives.list({ filter: (h) => h.temperament.in(["calm", "angry"]) }); //! "angry"' is not assignable
  await api.hives.list({ filter: (h) => h.apiary.colour.is("a") }); //! Property 'colour' does not exist
  await api.hives.list({ filter: (h) => h.apiary.name.is(5) }); //! 'number' is not assignable
  await api.hives.list({ filter: () => true }); //! 'boolean' is not assignable to type 'Condition'
  (await api.hives.list()).items[0]!.apiary; //! Property 'apiary' does not exist
  (await api.hives.list({ properties: ["id"] })).items[0]!.name; //! Property 'name' does not exist
  (await api.hives.get(7, { with: { apiary: true } })).queen; //! Property 'queen' does not exist
  (await api.hives.get(7, { with: { apiary: true } })).apiary.name; //! possibly 'null'
  (await api.hives.find(7)).name; //! possibly 'null'
  await api.hives.get("7"); //! 'string' is not assignable
  await api.hives.get({ batch_id: 1 }); //! 'batch_id' does not exist
  await api.batchHarvests.get(1); //! 'number' is not assignable
  await api.hives.create({}); //! is not assignable
  await api.hives.create({ name: "a" }); //! is not assignable
  await api.hives.create({ name: "a", apiary_id: "1" }); //! is not assignable
  await api.hives.create({ name: null, apiary_id: 1 }); //! is not assignable
  await api.hives.create({ name: "a", apiary_id: 1, colour: "red" }); //! 'colour' does not exist
  await api.hives.create({ name: "a", apiary: { name: "b" } }); //! is not assignable
  await api.hives.create({ name: "a", apiary_id: 1, temperament: "angry" }); //! "angry"' is not assignable
  await api.hives.patch(7, { colour: "red" }); //! 'colour' does not exist
  await api.hives.patch(7, { name: null }); //! is not assignable to type 'string | undefined'
  await api.hiveOverviews.create({}); //! Property 'create' does not exist
  await api.hives.patchAll("frames > 1", {}); //! Property 'patchAll' does not exist
  await api.hives.of(7, "colour"); //! "colour"' is not assignable
  await api.hives.of(7, "apiary").list(); //! Property 'list' does not exist
  await api.hives.of(7, "inspections").link(1); //! Property 'link' does not exist
  await api.hives.of(7, "inspections").create({}); //! is not assignable
  await api.apiaries.of(1, "forages").link("2"); //! is not assignable
  await api.hives.summary({ by: ["colour"] }); //! "colour"' is not assignable
  await api.hives.summary({ measure: ["sum(colour)"] }); //! is not assignable
  await api.inspectionPhotos.content(1, "picture"); //! "picture"' is not assignable
  hive.frames = "a"; //! is not assignable
  connect({}); //! Property 'url' is missing
};
