import { CistaError, type LoadContext, type Source, type SourceDefinition, source } from "../core/index.js";
import { urlGroup } from "./address.js";
import type {
  EventsDefinition,
  GraphqlDefinition,
  HttpSourceDefinition,
  Origin,
  PagesDefinition,
  SourceOptions,
  Url,
} from "./contract.js";
import { serverKey } from "./contract.js";
import { headersFor, urlFor } from "./load.js";
import { isTrusted } from "./reach.js";
import type { Server } from "./server.js";

type Definition = SourceOptions & { url?: Url<any>; headers?: unknown };

/** @throws CistaError code "not-an-origin" for anything else */
export function serverOf(origin: Origin): Server {
  const server = (origin as Origin | undefined)?.[serverKey];
  if (server) return server as Server;
  throw new CistaError(
    "not-an-origin",
    DEVELOPMENT && `An origin was expected, as origin({ base }) makes it, but ${String(origin)} came.`,
  );
}

/** A source of one server, made of its definition. */
export function sourceOf(
  server: Server,
  definition: Definition,
  rest: { load(params: any, context: LoadContext): unknown } & object,
): Source<any, any> {
  return source({ ...policyOf(server, definition), ...rest } as SourceDefinition<any, any, any>);
}

/** The members of a definition that the core needs. @throws CistaError code "missing-url" */
export function policyOf<D extends Definition>(server: Server, definition: D): D {
  return { ...ownPolicyOf(definition), ...hooksOf(server, definition as unknown as HttpSourceDefinition<any, any>) };
}

/** @throws CistaError code "invalid-headers": a function would be taken for no fields at all */
export function refuseHeaderFunction({ name, headers }: { name: string; headers?: unknown }): void {
  if (typeof headers !== "function") return;
  throw new CistaError(
    "invalid-headers",
    DEVELOPMENT &&
      `headers of "${name}" is a function, and here it is header fields: { "accept-language": "en" }. A function of the request is taken by origin({ headers }).`,
  );
}

/** @throws CistaError code "missing-url" for a definition without one */
export function refuseNoUrl({ name, url }: { name: string; url?: unknown }): void {
  if (typeof url === "string" || typeof url === "function" || url instanceof URL) return;
  throw new CistaError(
    "missing-url",
    DEVELOPMENT &&
      `"${name}" needs a url: text, a URL, or a function that makes one of the params, but it is ${String(url)}.`,
  );
}

/** The functions that the core calls for an entry without a request: its groups, and whether its answer is for the present user. */
function hooksOf(server: Server, definition: HttpSourceDefinition<any, any> & { document?: unknown }) {
  const { method = definition.document === undefined ? "GET" : "POST" } = definition;
  const { url: named, headers } = definition;
  const targetOf = (params: unknown, context: unknown) => ({
    url: urlFor(server, definition, params),
    method,
    context,
  });
  return {
    /** Its URL is one. */
    groups: (params: unknown, value: unknown): readonly string[] => {
      const own = definition.groups?.(params, value) ?? [];
      try {
        return [...own, urlGroup(urlFor(server, definition, params))];
      } catch {
        return own; // no URL can be made: nothing can have been asked there
      }
    },
    fits: (varies: Record<string, string>, params: unknown, context: unknown): boolean | "unsteady" => {
      return fitsAt(server, definition, varies, params, () => targetOf(params, context));
    },
    varies(params: unknown, context: unknown, before: Record<string, string> | undefined) {
      try {
        const target = targetOf(params, context);
        if (!isTrusted(server, target.url, typeof named === "function" ? undefined : named)) return undefined;
        return server.askers.notesNow(target, headersFor(headers, params), before);
      } catch {
        return before; // who puts it is not known
      }
    },
  };
}

/** Whether an answer is for the present user. @param target the requested URL */
export function fitsAt(
  server: Server,
  { url: named, headers }: Pick<HttpSourceDefinition<any, any>, "url" | "headers">,
  varies: Record<string, string>,
  params: unknown,
  target: () => { readonly url: URL; readonly method: string; readonly context: unknown },
): boolean | "unsteady" {
  try {
    const at = target();
    if (!isTrusted(server, at.url, typeof named === "function" ? undefined : named)) return true; // nothing was said there
    return server.askers.fits(varies, at, headersFor(headers, params));
  } catch {
    return "unsteady"; // who asks is not known; whoever asks is told what was thrown
  }
}

/** Any member of any definition over HTTP. */
type Members = {
  [K in keyof (HttpSourceDefinition<any, any> &
    PagesDefinition<any, any> &
    EventsDefinition<any, any> &
    GraphqlDefinition<any, any>)]?: any;
};

/** A definition without the members that only HTTP needs. A new one that is not left out here does not compile. */
function ownPolicyOf<D extends Definition>(definition: D): D {
  refuseNoUrl(definition);
  const { url, headers, method, body, parse, unwrap, next, previous, id, start, reduce, ...rest } =
    definition as Members;
  const { document, variables, partial, nullIsMissing, heuristic, ...policy } = rest;
  type Leftover = Exclude<keyof typeof policy, keyof SourceDefinition<any, any>>;
  const takesParams = (made: unknown) => typeof made === "function" && made.length > 0;
  const takesNone =
    !takesParams(url) &&
    !takesParams(headers) &&
    document === undefined &&
    (method === undefined || method === "GET" || body?.length === 0);
  const made: Members & Record<Leftover, never> = { ...policy, ...(takesNone ? { params: false } : {}) };
  return made as D;
}
