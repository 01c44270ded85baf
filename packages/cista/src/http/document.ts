import { CistaError } from "../core/index.js";
import type { GraphqlDefinition } from "./contract.js";

/** A definition's GraphQL text. @throws CistaError code "document" for one that is not, and does not become, text */
export function documentText({ name, document }: Pick<GraphqlDefinition<any, any>, "name" | "document">): string {
  const { loc } = document as { loc?: { source?: { body?: string } } }; // a parsed document remembers its text
  const text = loc?.source?.body ?? String(document);
  if (/[{]/.test(text)) return text;
  throw new CistaError(
    "document",
    DEVELOPMENT &&
      `The document of the source "${name}" is GraphQL text, or an object whose toString gives it, but it is ${JSON.stringify(text)}.`,
  );
}
