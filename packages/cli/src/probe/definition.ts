import type { AnswerDetails } from "cista";
import { parseLink } from "cista/http";
import type { Answered } from "./ask.js";
import { typical } from "./words.js";

/** A source definition to paste, as good as one answer allows to guess. */
export function definition(
  first: Answered,
  said: AnswerDetails,
  sample: { readonly value: unknown } | undefined,
  asked: Asked,
): string {
  const { url, headers, text, status } = first;
  const body = status < 300 ? sample?.value : undefined;
  const { method } = asked;
  const { name, params: inUrl, template } = addressOf(url);
  const { params, lines: sent } = sentBy(asked, inUrl);
  const envelope = envelopeOf(body);
  const next = nextOf(body);
  const paged = next !== undefined || parseLink("next", headers.get("link"), url) !== undefined;
  const kind = text === undefined ? "events" : paged && method === "GET" ? "pages" : "source";
  const list = Array.isArray(body) || envelope !== undefined;
  const item = typeName(list || kind !== "source" ? singular(name) : name);
  const value = kind === "events" || (list && kind === "source") ? `${item}[]` : item;
  const lines = [
    `name: ${JSON.stringify(name)},`,
    `url: ${template},`,
    ...sent,
    ...(kind === "events" ? ["start: [],", "reduce: (all, { data }) => [...all, JSON.parse(data)],"] : []),
    ...(envelope === undefined ? [] : [`unwrap: (body) => body${member(envelope)},`]),
    ...(kind === "pages" ? (next ?? []) : []),
    ...(kind !== "events" && said.maxAge === undefined && !said.noStore
      ? ['maxAge: "30s", // the server states no lifetime']
      : []),
  ];
  const shape = typeOf(list ? typical(itemsOf(body, envelope)) : body);
  const type = /^\{/.test(shape) ? `interface ${item} ${shape}` : `type ${item} = ${shape};`;
  const odd = askedBy.has(method) ? "" : `// Sources ask by GET, QUERY or POST; this was ${method}.\n`;
  const maker = makers[kind];
  const used = ["eventsFrom", "origin", "pagesFrom", "path", "withQuery"].filter(
    (name) =>
      name === "origin" || maker.startsWith(name) || template.includes(`=> ${name}`) || template.includes(`(${name}`),
  );
  return `${odd}import { ${used.join(", ")} } from "cista/http";

const api = origin({ base: ${JSON.stringify(url.origin)}${headersOf(asked)} });

${type}

export const ${identifier(name)} = ${maker}<${params}, ${value}>(${maker === "api.source" ? "" : "api, "}{
${lines.map((line) => `  ${line}`).join("\n")}
});`;
}

/** What makes a source of each kind. */
const makers = { source: "api.source", pages: "pagesFrom", events: "eventsFrom" } as const;

/** What of the request a source has to say again. */
interface Asked {
  readonly method: string;
  readonly headers: Headers;
  readonly body?: string | undefined;
}

const askedBy = new Set(["GET", "HEAD", "QUERY", "POST"]);

/** How a body that was sent becomes the params. */
function sentBy({ method, body }: Asked, inUrl: string): { params: string; lines: string[] } {
  if (method !== "POST" && method !== "QUERY") return { params: inUrl, lines: [] };
  const lines = [`method: ${JSON.stringify(method)},`];
  if (body === undefined) return { params: inUrl, lines: [...lines, "body: () => undefined,"] };
  const sample = parsedBody(body);
  if (sample === undefined || inUrl !== "void")
    return { params: inUrl, lines: [...lines, `body: () => ${JSON.stringify(body)},`] };
  return { params: typeOf(sample).replace(/\s*\n\s*/g, " "), lines }; // the params are what is sent
}

function parsedBody(body: string): object | undefined {
  try {
    const value: unknown = JSON.parse(body);
    return typeof value === "object" && value !== null ? value : undefined;
  } catch {
    return undefined;
  }
}

/** The header fields that were given. What signs somebody in is not printed again. */
function headersOf({ headers }: Asked): string {
  const said = [...headers].map(([name, value]) => {
    const shown = /^(authorization|cookie|proxy-authorization)$|token|key|secret/.test(name) ? "…" : value;
    return `${memberName(name)}: ${JSON.stringify(shown)}`;
  });
  return said.length === 0 ? "" : `, headers: () => ({ ${said.join(", ")} })`;
}

/** How the next page is found, where the body tells it: by numbers of pages, or by a cursor. */
function nextOf(body: unknown): string[] | undefined {
  if (typeof body !== "object" || body === null || Array.isArray(body) || envelopeOf(body) === undefined)
    return undefined;
  const found = Object.entries(body);
  const named = (pattern: RegExp, kind: string) =>
    found.find(([name, value]) => pattern.test(name) && typeof value === kind)?.[0];
  const page = named(/^(page|current_?page|page_?number)$/i, "number");
  const pages = named(/^(pages|total_?pages|page_?count|last_?page)$/i, "number");
  if (page && pages) return inQuery("page", `body${member(page)} + 1`, `body${member(page)} < body${member(pages)}`);
  const cursor = named(/^(next|next_?(page|cursor|token|page_?token|url)|cursor)$/i, "string");
  if (!cursor) return undefined;
  const value = String((body as Record<string, unknown>)[cursor]);
  if (/^(https?:|\/)/.test(value)) return [`next: (body) => body${member(cursor)},`];
  return inQuery("cursor", `body${member(cursor)}`, `body${member(cursor)}`);
}

function inQuery(name: string, value: string, condition: string): string[] {
  return [
    "next: (body, { url }) => {",
    "  const next = new URL(url);",
    `  next.searchParams.set(${JSON.stringify(name)}, ${value});`,
    `  return ${condition} ? next : undefined;`,
    "},",
  ];
}

function itemsOf(body: unknown, envelope: string | undefined): unknown[] {
  return (envelope === undefined ? body : (body as Record<string, unknown>)[envelope]) as unknown[];
}

/** A type that is longer, or nested deeper, than a person would write is left open. */
const mostMembers = 100;
const deepest = 8;

/** The TypeScript type of a sample. */
function typeOf(sample: unknown, indent = "", depth = 0): string {
  if (sample === undefined || sample === null || depth > deepest) return "unknown";
  if (Array.isArray(sample)) {
    const item = typeOf(typical(sample), indent, depth + 1);
    return sample.length === 0 ? "unknown[]" : `${item}[]`;
  }
  if (typeof sample !== "object") return typeof sample;
  const entries = Object.entries(sample);
  const members = entries
    .slice(0, mostMembers)
    .map(([name, member]) => `${indent}  ${memberName(name)}: ${typeOf(member, `${indent}  `, depth + 1)};`);
  if (entries.length > mostMembers) members.push(`${indent}  // … and ${entries.length - mostMembers} more`);
  return members.length === 0 ? "object" : `{\n${members.join("\n")}\n${indent}}`;
}

/** The name, the params and the url's text: what looks like an id becomes one, and so does each query parameter. */
function addressOf(url: URL): { name: string; params: string; template: string } {
  const segments = url.pathname.split("/").filter(Boolean);
  const given = new Map<string, string>();
  const written: string[] = [];
  let name = "value";
  for (const segment of segments) {
    if (/\d/.test(segment) && !/^v\d+$|\./.test(segment) && written.length > 0) {
      given.set("id", "string");
      written.push("$" + "{id}");
      name = singular(name);
    } else {
      name = segment.replace(/\.\w+$/, "");
      written.push(segment);
    }
  }
  const where = `/${written.join("/")}`;
  const path = given.size > 0 ? `path\`${where}\`` : JSON.stringify(where);
  const queried = [...url.searchParams.keys()].map((key) => {
    given.set(key, "string");
    return identifier(key) === key ? key : `${JSON.stringify(key)}: ${identifier(key)}`;
  });
  if (given.size === 0) return { name: plain(name), params: "void", template: path };
  const names = [...given.keys()].map((key) =>
    identifier(key) === key ? key : `${JSON.stringify(key)}: ${identifier(key)}`,
  );
  const types = [...given].map(([key, type]) => `${identifier(key) === key ? key : JSON.stringify(key)}: ${type}`);
  return {
    name: plain(name),
    params: `{ ${types.join("; ")} }`,
    template: `({ ${names.join(", ")} }) => ${queried.length > 0 ? `withQuery(${path}, { ${queried.join(", ")} })` : path}`,
  };
}

/** The one member that holds the list, in an object that is made to carry it. */
function envelopeOf(body: unknown): string | undefined {
  if (typeof body !== "object" || body === null || Array.isArray(body)) return undefined;
  const lists = Object.entries(body).filter(([, value]) => Array.isArray(value) && typeof value[0] === "object");
  return lists.length === 1 && Object.keys(body).length <= 6 ? lists[0]?.[0] : undefined;
}

function member(name: string): string {
  return identifier(name) === name ? `.${name}` : `[${JSON.stringify(name)}]`;
}

function plain(name: string): string {
  return name.replace(/[^\w-]+/g, "-") || "value";
}

/** A member may have any name. */
function memberName(name: string): string {
  return /^[A-Za-z_$][\w$]*$/.test(name) ? name : JSON.stringify(name);
}

/** What the language keeps for itself (ECMAScript §12.7.2, in modules), and what the pasted code already uses. */
const taken = new Set(
  `arguments await break case catch class const continue debugger default delete do else enum eval export extends false
   finally for function if implements import in instanceof interface let new null package private protected public
   return static super switch this throw true try typeof undefined var void while with yield api origin`.split(/\s+/),
);

function identifier(name: string): string {
  const joined = name
    .slice(0, 60)
    .replace(/[^A-Za-z0-9_$]+(\w)?/g, (_, letter: string | undefined) => letter?.toUpperCase() ?? "");
  if (taken.has(joined)) return `${joined}Source`;
  return /^[A-Za-z_$]/.test(joined) ? joined : `value${joined}`;
}

function singular(name: string): string {
  return name.length > 3 && name.endsWith("s") && !name.endsWith("ss") ? name.slice(0, -1) : name;
}

function typeName(name: string): string {
  const word = identifier(name);
  return word.charAt(0).toUpperCase() + word.slice(1);
}
