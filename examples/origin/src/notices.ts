import { Hono } from "hono";
import { streamSSE } from "hono/streaming";
import type { Notice, World } from "./world.js";

/** How long a client is to wait before it connects again, in milliseconds. */
const reconnectAfter = 1000;

/** `/api/notices`: trail notices as server-sent events, from the one after Last-Event-ID on. */
export function notices(world: World): Hono {
  const app = new Hono();
  app.get("/", (c) => {
    const response = streamSSE(c, async (stream) => {
      const send = (notice: Notice) =>
        stream.writeSSE({ id: notice.id, event: "notice", data: JSON.stringify(notice) });
      await stream.write(`retry: ${reconnectAfter}\n\n`);
      for (const notice of world.noticesAfter(c.req.header("last-event-id"))) await send(notice);
      const end = world.onNotice((notice) => void send(notice));
      await new Promise<void>((resolve) => stream.onAbort(resolve));
      end();
    });
    response.headers.set("cache-control", "no-store");
    return response;
  });
  return app;
}
