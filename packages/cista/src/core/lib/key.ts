/** Keys: the canonical text of params (RFC 8785), and hashes that find an entry without building the text. */
import { CistaError, preview } from "../api/failure.js";

/** JSON, plus anything with `toJSON` (Date, URL). Anything else is refused with a `CistaError` that names the path. */
export type Params = unknown;

/** Params are not nested deeper than this. */
const deepest = 100;

/**
 * The text of a key: the source's name, one space, the canonical JSON of the params; just the name where there are none.
 * @throws CistaError code "invalid-params", naming the path of the member that JSON cannot say
 */
export function keyText(name: string, params: Params): string {
  // Joined, not added up: engines keep the pieces of a sum beside it, and keys stay for long.
  return params === undefined ? name : [name, canonicalJson(params)].join(" ");
}

/** RFC 8785 (JSON Canonicalization Scheme): members sorted by UTF-16 code units, numbers as ECMAScript prints them. */
export function canonicalJson(value: unknown): string {
  return write(value, "params", []);
}

function write(value: unknown, path: string, above: object[]): string {
  switch (typeof value) {
    case "string":
      // RFC 8785 §3.2.2.2: a lone surrogate is an error.
      if (/\p{Surrogate}/u.test(value)) refuse(path, DEVELOPMENT && "text with half a surrogate pair");
      return JSON.stringify(value);
    case "number":
      // RFC 8785 §3.2.2.3: NaN and Infinity are errors; ECMAScript prints -0 as 0.
      if (!Number.isFinite(value)) refuse(path, DEVELOPMENT && String(value));
      return String(value);
    case "boolean":
      return String(value);
    case "object":
      return value === null ? "null" : writeObject(value, path, above);
    default:
      return refuse(path, DEVELOPMENT && preview(value));
  }
}

function writeObject(value: object, path: string, above: object[]): string {
  if (above.includes(value)) refuse(path, DEVELOPMENT && "an object that contains itself");
  if (above.length >= deepest) refuse(path, DEVELOPMENT && `nested deeper than ${deepest} levels`);
  const inside = [...above, value];
  if ("toJSON" in value && typeof value.toJSON === "function") {
    if (value instanceof Date && Number.isNaN(value.getTime())) refuse(path, DEVELOPMENT && "an invalid Date");
    return write(value.toJSON(), path, inside);
  }
  if (Array.isArray(value)) {
    return `[${Array.from(value, (item, index) => write(item, `${path}[${index}]`, inside)).join(",")}]`;
  }
  if (!isPlain(value)) refuse(path, DEVELOPMENT && preview(value));
  const members = Object.keys(value)
    .sort()
    .filter((name) => (value as Record<string, unknown>)[name] !== undefined)
    .map((name) => `${write(name, path, [])}:${write((value as never)[name], memberPath(path, name), inside)}`);
  return `{${members.join(",")}}`;
}

function memberPath(path: string, name: string): string {
  return /^[\p{L}_$][\p{L}\p{N}_$]*$/u.test(name) ? `${path}.${name}` : `${path}[${JSON.stringify(name)}]`;
}

/** An object literal, of this realm or another, or one without a prototype. */
function isPlain(value: object): boolean {
  const prototype: unknown = Object.getPrototypeOf(value);
  return prototype === null || Object.getPrototypeOf(prototype) === null;
}

function refuse(path: string, came: string | false): never {
  throw new CistaError(
    "invalid-params",
    DEVELOPMENT &&
      `${path} is ${came}. Params are JSON (text, finite numbers, booleans, null, arrays and plain objects) or have a toJSON method: pass what identifies the value, such as its id.`,
  );
}

// ── Finding an entry without building its text ───────────────────────────────

/**
 * A number that is equal for params that make the same key, in whatever order their members stand; or `undefined`
 * where only the text can tell (something with `toJSON`, or something to refuse). Many params may share one number.
 * @param seed where hashes begin: another in each cache, so that no attacker can choose params that all share one
 */
export function paramsHash(params: object, seed: number, depth = 0): number | undefined {
  if (depth > deepest) return undefined; // too deep, or within itself
  const prototype: unknown = Object.getPrototypeOf(params);
  if (prototype === Object.prototype) return objectHash(params as Record<string, unknown>, seed, depth);
  return Array.isArray(params) ? arrayHash(params, seed, depth) : undefined;
}

function objectHash(object: Record<string, unknown>, seed: number, depth: number): number | undefined {
  let sum = 7;
  for (const name in object) {
    const value = object[name];
    if (value === undefined) continue; // left out of the text, so left out here
    const hash = valueHash(value, seed, depth);
    if (hash === undefined) return undefined;
    sum = (sum + Math.imul(hash ^ textHash(name, seed), 0xc2b2ae35)) | 0;
  }
  return sum;
}

function arrayHash(array: readonly unknown[], seed: number, depth: number): number | undefined {
  if ("toJSON" in array) return undefined;
  let hash = array.length;
  for (const item of array) {
    const next = valueHash(item, seed, depth);
    if (next === undefined) return undefined;
    hash = Math.imul(hash ^ next, 0x01000193);
  }
  return hash;
}

function valueHash(value: unknown, seed: number, depth: number): number | undefined {
  switch (typeof value) {
    case "string":
      return textHash(value, seed);
    case "number":
      if ((value | 0) === value) return Math.imul(value | 0, 0x9e3779b1);
      return Number.isFinite(value) ? textHash(String(value), seed) : undefined;
    case "boolean":
      return value ? 0x3c6ef372 : 0x1b873593;
    case "object":
      return value === null ? 0x2545f491 : paramsHash(value, seed, depth + 1);
    default:
      return undefined;
  }
}

/** 32 bits (FNV-1a, over UTF-16 code units). */
export function textHash(text: string, seed: number): number {
  let hash = seed;
  for (let i = 0; i < text.length; i++) hash = Math.imul(hash ^ text.charCodeAt(i), 0x01000193);
  return hash;
}

/** Whether two params, both with a hash, make the same key. */
export function sameParams(one: unknown, other: unknown): boolean {
  if (one === other) return true; // also 0 and -0, which JSON prints alike
  if (typeof one !== "object" || typeof other !== "object" || one === null || other === null) return false;
  if (Array.isArray(one)) return Array.isArray(other) && sameItems(one, other);
  return !Array.isArray(other) && sameMembers(one as Record<string, unknown>, other as Record<string, unknown>);
}

function sameItems(one: readonly unknown[], other: readonly unknown[]): boolean {
  if (one.length !== other.length) return false;
  for (let i = 0; i < one.length; i++) if (!sameParams(one[i], other[i])) return false;
  return true;
}

function sameMembers(one: Record<string, unknown>, other: Record<string, unknown>): boolean {
  let left = 0;
  for (const name in one) {
    const value = one[name];
    if (value === undefined) continue;
    const there = other[name];
    // An inherited member is never JSON, but for the prototype itself.
    if (there !== value && !sameParams(value, there)) return false;
    if (name === "__proto__" && !Object.hasOwn(other, name)) return false;
    left++;
  }
  for (const name in other) if (other[name] !== undefined) left--;
  return left === 0;
}
