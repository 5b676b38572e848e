// docs/page-api.json, and what is held against it.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import Ajv from "ajv/dist/2020.js";
import formats from "ajv-formats";

export const DOCS = join(import.meta.dirname ?? new URL(".", import.meta.url).pathname, "../../docs");
export const API = join(DOCS, "page-api.json");
export const api = JSON.parse(readFileSync(API, "utf8"));
const ajv = new Ajv({ strict: false, allErrors: true });
formats(ajv);
ajv.addSchema(api, "api");

/** Nothing if an object fits a schema, else what is wrong. */
export function misfit(schema, o) {
  const check = ajv.compile(schema);
  return check(o) ? "" : ajv.errorsText(check.errors) + " in " + JSON.stringify(o).slice(0, 600);
}

/** A place within the description, as a schema. */
export const at = (...steps) => ({ $ref: "api#/" + steps.map((s) => s.replaceAll("~", "~0").replaceAll("/", "~1").replaceAll("{", "%7B").replaceAll("}", "%7D")).join("/") });

/** Of which described path an address is. */
export function pathOf(address) {
  const asked = new URL(address, "http://station").pathname;
  return Object.keys(api.paths).find((p) => p === asked) ||
    Object.keys(api.paths).find((p) => p.includes("{") && asked.startsWith(p.slice(0, p.indexOf("{"))));
}

/** What is wrong with a request, by the description; nothing if it is described. */
export function wrongRequest(method, address, headers, body) {
  const path = pathOf(address), asked = api.paths[path]?.[method.toLowerCase()];
  const said = method + " " + new URL(address, "http://station").pathname;
  if (!asked) return said + " is not described";
  const given = (p) => p.in === "header" ? headers[p.name.toLowerCase()] !== undefined : true;
  for (const p of (asked.parameters || []).map((p) => p.$ref ? api.components.parameters[p.$ref.split("/").pop()] : p))
    if (p.required && !given(p)) return said + " wants " + p.name;
  if (!asked.requestBody) return body ? said + " wants no body" : "";
  if (!body && !asked.requestBody.required) return "";
  const wrong = misfit(at("paths", path, method.toLowerCase(), "requestBody", "content", "application/json", "schema"), JSON.parse(body));
  return wrong ? said + ": " + wrong : "";
}

export function fits(schema, o, where) {
  assert.equal(misfit(schema, o), "", where);
}
