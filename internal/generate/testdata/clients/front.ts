// A front end around the client, as a team would have one.
import { connect, type Hive, type NewHive } from "../clients/typescript/index.ts";

const bees = connect({ url: "/api" });

export const table = async () => {
  const { items } = await bees.hives.list({
    filter: (hive) => hive.frames.more(8),
    with: { apiary: true, queen: true },
    sortby: ["-frames"],
  });
  return items.map((hive) => [
    hive.name,
    hive.frames.toFixed(0),
    hive.apiary?.name ?? "",
    hive.queen?.breed ?? "none",
    hive.queen?.is_clipped ? "clipped" : "",
  ]);
};

export const clipped = () =>
  bees.queens.list({ filter: (queen) => queen.is_clipped.is(true), properties: ["id", "is_clipped"] });

export const add = (form: NewHive) => bees.hives.create(form);
export const empty: NewHive = { name: "", apiary_id: 1 };

export const move = (hive: Hive, apiary_id: number) => bees.hives.patch(hive, { apiary_id });

export async function* readings(hive: number) {
  for await (const reading of bees.hives.of(hive, "sensor_readings").stream()) yield (reading.temperature_c ?? 0).toFixed(1);
}

export const yields = () => bees.hives.summary({ by: ["temperament"], measure: ["count", "sum(frames)"] });
export const calm = () => bees.hives.list({ filter: (hive) => hive.temperament.in(["calm", "nervous"]) });

export const photos = (visit: number) => bees.inspections.of(visit, "inspection_photos").list({ sortby: ["-id"] });
export const photo = (id: number) => bees.inspectionPhotos.content(id, "photo");
export const best = () => bees.apiaryYields.list({ limit: 3 });
