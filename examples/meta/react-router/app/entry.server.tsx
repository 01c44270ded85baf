import { PassThrough } from "node:stream";
import { createReadableStreamFromReadable } from "@react-router/node";
import { CistaProvider } from "cista/react";
import { renderToPipeableStream } from "react-dom/server";
import { type EntryContext, type RouterContextProvider, ServerRouter } from "react-router";
import { cistaContext, contextOf } from "./cista";

export default function handleRequest(
  request: Request,
  status: number,
  headers: Headers,
  entry: EntryContext,
  context: RouterContextProvider,
): Promise<Response> {
  const { cache, page } = context.get(cistaContext) ?? contextOf(request);
  return new Promise((resolve, reject) => {
    const app = (
      <CistaProvider cache={cache}>
        <ServerRouter context={entry} url={request.url} />
      </CistaProvider>
    );
    const { pipe } = renderToPipeableStream(app, {
      onShellReady() {
        const body = new PassThrough();
        body.on("close", () => page?.close());
        headers.set("content-type", "text/html");
        resolve(new Response(createReadableStreamFromReadable(body), { headers, status }));
        pipe(page ? page.into(body) : body);
      },
      onShellError: reject,
    });
  });
}
