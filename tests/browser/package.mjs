// A data package as others read it.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import datapackage from "datapackage";

// Without a network: schemas come with the package, and the profile is the one that every
// reader of data packages has.
export async function readPackage(place) {
  const faults = [], read = {}, descriptor = JSON.parse(readFileSync(join(place, "datapackage.json"), "utf8"));
  assert.match(descriptor.profile, /\/camtrap-dp\/1\.0\/camtrap-dp-profile\.json$/);
  const made = await datapackage.Package.load({ ...descriptor, profile: "tabular-data-package" }, { basePath: place });
  faults.push(...made.errors.map((e) => e.message));
  for (const r of made.resources)
    try { read[r.name] = await r.read({ keyed: true, relations: true }); } catch (e) { faults.push(r.name + ": " + [e.message, ...(e.errors || []).map((x) => x.message)].join("; ")); }
  return { faults, read };
}
