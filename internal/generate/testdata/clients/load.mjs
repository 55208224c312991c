// It stores rows until its input ends, and prints the text of each that the service says
// is stored.
import { pathToFileURL } from "node:url";

const { connect, treatments } = await import(pathToFileURL(process.argv[2] + "/dist/index.js").href);
const bees = connect({ url: process.argv[3], retries: 40 });
const stop = new AbortController();
process.stdin.on("data", () => stop.abort()).on("end", () => stop.abort());

const worker = async (w) => {
  for (let n = 0; !stop.signal.aborted; n++) {
    // A treatment is told from others by its dose.
    const list = [{ hive_id: 2, substance_id: 1, started_on: "2026-05-01", dose: w * 10_000 + n + 1 }];
    if (n % 3) list.push({ ...list[0], dose: list[0].dose + 0.5 });
    const sending = { signal: stop.signal };
    try {
      if (n % 3 === 0) await bees.treatments.create(list[0], sending);
      else if (n % 3 === 1) await bees.treatments.createAll(list, sending);
      else await bees.client.batch((b) => list.map((row) => treatments(b).create(row)), sending);
      for (const row of list) console.log(row.dose);
    } catch (e) {
      if (!stop.signal.aborted) console.log("!", e.message);
    }
  }
};
await Promise.all(Array.from({ length: 6 }, (_, w) => worker(w)));
process.exit(0);
