/**
 * The present user, and whether a held value is for that user. Rule F9; RFC 9111 §4.1, §3.5.
 * This is the one place that decides it: stores, tabs, pages and fleets go by the notes made here (`varies`).
 */
import { ByContext, forgetOldest } from "./by-context.js";
import type { HeaderFields, OriginOptions } from "./contract.js";
import { statedUse } from "./shared-use.js";

/** Fields that hold a secret. They are noted under a made-up name, which means nothing outside this memory. */
const secretField = /^(?:proxy-)?authorization$|^cookie$/;
/** Fields that do not say who asks. */
const impersonalField = /^(?:accept|content)(?:-|$)|^(?:user-agent|trace(?:parent|state)|x-request-id|baggage)$/;

/** How many tokens of one asker keep their name. */
const mostNames = 100;

/** The one for whom caches of one `context` ask. */
interface Asker {
  /** The made-up names of secrets, by the secrets' digests. */
  readonly names: Map<string, string>;
  /** Where `headers` is asynchronous: the newest text of each field. */
  lastFields: Headers | undefined;
  isAsynchronous: boolean;
  /** The note on the user that asked last. */
  lastUser: string | undefined;
  /** Since then a value was looked at for another user. */
  hasOtherLooked: boolean;
}

/** The headers and notes of a request on behalf of the present user. */
export interface Said {
  readonly fields: Headers;
  /** The result of `user`. */
  readonly id: string | undefined;
}

/** The target of a question without a request. */
export interface Target {
  readonly url: URL;
  readonly method: string;
  readonly context: unknown;
}

/** The note on an answer for the user who opens the server's page: it becomes that of the first user whose name is known. */
const visitor = "*";

/** A server's options that say who asks. */
type Speaker = Pick<OriginOptions, "headers" | "user" | "credentials">;

/** The askers of one server: one for each `context` that a cache was given. */
export class Askers {
  readonly #server: Speaker;
  /** The fields of all requests, where `headers` is no function. */
  readonly #fixed: Headers;
  readonly #askers = new ByContext<Asker>(() => ({
    names: new Map(),
    lastFields: undefined,
    isAsynchronous: false,
    lastUser: undefined,
    hasOtherLooked: false,
  }));

  constructor(server: Speaker) {
    this.#server = server;
    this.#fixed = typeof server.headers === "function" ? new Headers() : headersOf(server.headers);
  }

  /** The user who runs a write now. Where no request was made yet, that user is the one before the next request. */
  userOfWrite(context: unknown): string | undefined {
    const id = this.#server.user?.({ context });
    const asker = this.#askers.of(context);
    const now = userNote(id);
    asker.lastUser ??= now;
    asker.hasOtherLooked ||= now !== asker.lastUser;
    return id;
  }

  /**
   * The fields of a request that is made now, and who makes it.
   * @param userChanged called where the request before was another user's. A user who is named is known before the fields are.
   */
  async ask(target: Target, userChanged: (hasLeft: boolean) => void = () => {}): Promise<Said> {
    const { user } = this.#server;
    if (user) this.#noteUser(this.#fixed, target.context, user(target), userChanged);
    const said = await this.#fieldsFor(target);
    this.#noteUser(said.fields, target.context, said.id, userChanged);
    return said;
  }

  /** The token that a request would bear. It is given no name: see `renewed`. */
  async tokenNow(target: Target): Promise<string | null> {
    return (await this.#fieldsFor(target)).fields.get("authorization");
  }

  async #fieldsFor(target: Target): Promise<Said> {
    const asker = this.#askers.of(target.context);
    const { headers, user } = this.#server;
    const id = user?.(target);
    const said = typeof headers === "function" ? headers(target) : headers;
    asker.isAsynchronous = said instanceof Promise;
    const fields = headersOf(await said);
    if (id !== user?.(target)) return this.#fieldsFor(target); // somebody else signed in while the fields were made
    if (asker.isAsynchronous) remember(asker, fields);
    return { fields, id };
  }

  /** A token was renewed: the new token has the name of the old one, unless it has a name already: then it is another user's. */
  renewed(context: unknown, before: string | null, now: string | null): void {
    const asker = this.#askers.of(context);
    if (before && now) nameOf(asker, now, nameOf(asker, before));
  }

  /**
   * The notes on an answer: the user, and the fields that `Vary` names.
   * An answer that every user may have (`public`, `s-maxage`) has no user. Nor has one in a partition: all there is one user's.
   */
  variesOf(
    { fields, id }: Said,
    { headers }: Response,
    { context, partition }: { readonly context: unknown; readonly partition?: string | undefined },
  ): Record<string, string> | undefined {
    const names = new Set((headers.get("vary") ?? "").split(",").map((each) => each.trim().toLowerCase()));
    const use = statedUse(headers);
    // A `private` answer without a user counts too: a user who has signed in would get another.
    const hasUser = this.#server.user || fields.has("authorization") || use === "user";
    if (hasUser && use !== "all") names.add("authorization");
    if (partition !== undefined) names.delete("authorization");
    names.delete("");
    names.delete("*"); // fits no request: see response-freshness.ts
    if (names.size === 0) return undefined;
    return Object.fromEntries([...names].sort().map((each) => [each, this.#noted(each, fields, context, id)]));
  }

  /** The notes on a value that a program puts: see `SourceDefinition.varies`. @param own the definition's own fields */
  notesNow(
    target: Target,
    own: HeaderFields | undefined,
    before: Readonly<Record<string, string>> = {},
  ): Record<string, string> | undefined {
    const { user, headers } = this.#server;
    const { context } = target;
    const id = user?.(target);
    const noted = Object.keys(before);
    const fields = this.#knownFields(user ? ["authorization", ...noted] : noted, target, own);
    if (!fields) return { authorization: user ? userNote(id) : visitor };
    const hasUser = user || typeof headers === "function" || fields.has("authorization");
    const names = [...new Set(hasUser ? ["authorization", ...noted] : noted)].sort();
    if (names.length === 0) return undefined;
    const now = Object.fromEntries(names.map((each) => [each, this.#noted(each, fields, context, id)]));
    // A token that has to be fetched may not be known yet: the value is for the first user whose name is.
    const isUnknown = !user && this.#askers.of(context).isAsynchronous && now.authorization === "";
    return isUnknown ? { ...now, authorization: visitor } : now;
  }

  /** Whether a request that is made now would say the same: see `SourceDefinition.fits`. @param own the definition's own fields */
  fits(varies: Record<string, string>, target: Target, own: HeaderFields | undefined): boolean | "unsteady" {
    const { user } = this.#server;
    const isUser = (field: string) => user !== undefined && field === "authorization";
    const asker = this.#askers.of(target.context);
    const fieldsNow = () => this.#knownFields(Object.keys(varies), target, own);
    const fields = fieldsNow();
    if (!fields) return Object.values(varies).every((noted) => noted === visitor); // nobody has asked: nobody else has come
    const id = user?.(target);
    for (const field of Object.keys(varies)) {
      const now = this.#noted(field, fields, target.context, id);
      const isVisitors = field === "authorization" && varies[field] === visitor && now !== "";
      if (isUser(field) || isVisitors) asker.lastUser ??= now; // known without a request: another tab, or a page, may have brought the value
      const known = field === "authorization" ? asker.lastUser : undefined;
      if (known !== undefined && now !== known && (now || user)) asker.hasOtherLooked = true;
      if (varies[field] === visitor) varies[field] = known || now || visitor;
      const noted = varies[field];
      if (noted === visitor) continue;
      if (now !== noted && !(asker.isAsynchronous && noted === "" && !isUser(field))) {
        return now === this.#noted(field, fieldsNow() ?? fields, target.context, user?.(target)) ? false : "unsteady";
      }
    }
    return true;
  }

  /** Whether the answer may be for one user only, as far as a cache that several users share is concerned: a fleet's, or a browser's (rules T1, S6). */
  isOneUsers({ fields, id }: Said): boolean {
    const { user, headers, credentials } = this.#server;
    if (fields.has("authorization") || fields.has("cookie") || credentials === "include") return true;
    if (user) return id !== undefined;
    return typeof headers === "function" && [...fields.keys()].some((field) => !impersonalField.test(field));
  }

  /** Where no `user` is said, a request without a token (a public URL, perhaps) does not mean that the user has gone. */
  #noteUser(fields: Headers, context: unknown, id: string | undefined, userChanged: (hasLeft: boolean) => void): void {
    const asker = this.#askers.of(context);
    const now = this.#noted("authorization", fields, context, id);
    const { lastUser: before, hasOtherLooked } = asker;
    asker.lastUser = now || this.#server.user ? now : (before ?? "");
    asker.hasOtherLooked = false;
    if (before !== undefined && (before !== asker.lastUser || hasOtherLooked)) userChanged(before !== "");
  }

  /** The fields with the definition's own, as far as the named ones need them: a user who is named needs none. */
  #knownFields(names: readonly string[], target: Target, own: HeaderFields | undefined): Headers | undefined {
    const isUsers = this.#server.user !== undefined && names.every((each) => each === "authorization");
    const said = isUsers ? this.#fixed : this.#fieldsNow(this.#askers.of(target.context), target);
    if (!said || !own) return said;
    return setFields(new Headers(said), headersOf(own));
  }

  /** Without a request. @returns undefined where the fields are not known */
  #fieldsNow(asker: Asker, target: Target): Headers | undefined {
    const { headers } = this.#server;
    if (typeof headers !== "function") return this.#fixed;
    if (!asker.isAsynchronous) {
      const said = headers(target);
      if (!(said instanceof Promise)) return headersOf(said);
      asker.isAsynchronous = true; // from now on a look does not call it
      said.then(
        (later) => remember(asker, headersOf(later)),
        () => {},
      );
    }
    return asker.lastFields;
  }

  /** The note on one field: "" where it was not sent. */
  #noted(field: string, fields: Headers, context: unknown, id: string | undefined): string {
    if (this.#server.user && field === "authorization") return userNote(id);
    const text = fields.get(field) ?? "";
    if (text === "") return "";
    return secretField.test(field) ? nameOf(this.#askers.of(context), text) : digest(text);
  }
}

function userNote(id: string | undefined): string {
  return id === undefined ? "" : `@${id}`;
}

/** Fields whose text is `undefined` are left out: `{ authorization: token && … }` says nothing where there is no token. */
export function headersOf(given: HeaderFields | undefined): Headers {
  if (!given || Symbol.iterator in given) return new Headers(given as HeadersInit);
  const said = Object.entries(given as Record<string, string | undefined>).filter(([, text]) => text !== undefined);
  return new Headers(said as [string, string][]);
}

/** Sets each of these fields, in place of a field of the same name. @returns all of them */
export function setFields(fields: Headers, more: Iterable<[string, string]>): Headers {
  for (const [each, text] of more) fields.set(each, text);
  return fields;
}

function remember(asker: Asker, fields: Headers): void {
  asker.lastFields = setFields(asker.lastFields ?? new Headers(), fields);
}

/** The name of a secret. The secret itself is not kept. @param given the name to take where it has none */
function nameOf({ names }: Asker, secret: string, given?: string): string {
  const key = digest(secret);
  const name = names.get(key) ?? given ?? `~${Math.random()}`;
  names.delete(key);
  names.set(key, name);
  forgetOldest(names, mostNames);
  return name;
}

/** 53 bits by which two texts are told apart. It never leaves the memory for a secret: a short one could be guessed. */
function digest(text: string): string {
  let high = 0xdeadbeef;
  let low = 0x41c6ce57;
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at);
    high = Math.imul(high ^ code, 2654435761);
    low = Math.imul(low ^ code, 1597334677);
  }
  high = Math.imul(high ^ (high >>> 16), 2246822507) ^ Math.imul(low ^ (low >>> 13), 3266489909);
  low = Math.imul(low ^ (low >>> 16), 2246822507) ^ Math.imul(high ^ (high >>> 13), 3266489909);
  return (4294967296 * (2097151 & low) + (high >>> 0)).toString(36);
}
