import { type Answered, ask, type Question } from "./ask.js";
import { report } from "./report.js";
import { type Verdict, verdict } from "./verdict.js";

export { NoAnswer } from "./ask.js";

export interface ProbeOptions extends Question {
  readonly json: boolean;
  print(text: string): void;
}

/** Asks twice, the second time conditionally, and prints what Cista will do with the endpoint. @throws NoAnswer */
export async function probe({ json, print, ...question }: ProbeOptions): Promise<void> {
  const found = await lookAt(question);
  print(json ? JSON.stringify(found, undefined, 2) : report(found));
}

async function lookAt(question: Question): Promise<Verdict> {
  const first = await ask(question);
  const { method } = question;
  if (first.text === undefined || (method !== "GET" && method !== "HEAD")) {
    return verdict({ method, first, second: undefined, by: null }, question); // a stream, or something that may have effects
  }
  const by = first.headers.has("etag") ? "etag" : first.headers.has("last-modified") ? "last-modified" : null;
  return verdict({ method, first, second: await again(question, first, by), by }, question);
}

function again(question: Question, first: Answered, by: "etag" | "last-modified" | null): Promise<Answered> {
  const field = { etag: "if-none-match", "last-modified": "if-modified-since" } as const;
  return ask({ ...question, condition: by ? { [field[by]]: first.headers.get(by) ?? "" } : {} });
}
