/** A stream of HTML with the values of its page between its parts. Rule H12. */
import { Edges } from "./edges.js";

/** As much of a writable stream of Node as a renderer uses. */
export interface NodeWritable {
  write(chunk: any, ...rest: any[]): any;
  end(...rest: any[]): any;
}

/**
 * A renderer writes one burst after the other, and says `flush` after each: between two of them an element may stand. What has
 * become known goes behind the first burst, and before each later one, so that a value is always there before what needs it.
 * Of a renderer that never says `flush` a burst has ended when nothing was written for one macrotask.
 */
export function betweenBursts<W extends NodeWritable>(response: W, html: () => string): W {
  const edges = new Edges();
  let usesFlush = false;
  let isFirst = true;
  let isAtEdge = false;
  let hasWritten = false;
  let hasEnded = false;
  let timer: ReturnType<typeof setTimeout> | undefined;
  const put = (text: string) => text !== "" && !hasEnded && response.write(text);
  const pause = () => {
    if (usesFlush || hasEnded || !edges.isAtEdge) return;
    put(html());
    isFirst = false;
  };
  const own = {
    write(chunk: unknown, ...rest: unknown[]) {
      if (isAtEdge) put(html());
      isAtEdge = false;
      hasWritten = true;
      if (!usesFlush) {
        edges.pass(chunk);
        clearTimeout(timer);
        timer = setTimeout(pause, 0);
      }
      return response.write(chunk, ...rest);
    },
    end(...rest: unknown[]) {
      clearTimeout(timer);
      const [last] = rest;
      if (last !== undefined && last !== null && typeof last !== "function") own.write(rest.shift());
      clearTimeout(timer);
      if (isFirst || isAtEdge || !usesFlush) put(html());
      hasEnded = true;
      return response.end(...rest);
    },
    flush() {
      if (!hasWritten) return;
      usesFlush = true;
      if (isFirst) put(html());
      isFirst = false;
      isAtEdge = true;
      (response as { flush?: () => void }).flush?.();
    },
  };
  return new Proxy(response, {
    get(target, name) {
      if (name in own) return own[name as keyof typeof own];
      const member = Reflect.get(target, name, target);
      return typeof member === "function" ? member.bind(target) : member;
    },
  });
}

type Read = ReadableStreamReadResult<Uint8Array>;

/**
 * The same for a web stream, which has no `flush`: a burst has ended when nothing more is there to read one macrotask later, and
 * what came so far ends with a tag. Something may stand between the renderer and this, and cut its bursts into any pieces.
 * @param end called when the stream has ended, or is not wanted any more
 */
export function throughBursts(
  html: ReadableStream<Uint8Array>,
  next: () => string,
  end: () => void,
): ReadableStream<Uint8Array> {
  const reader = html.getReader();
  const encoder = new TextEncoder();
  const edges = new Edges();
  let isFirst = true;
  let outstanding: Promise<Read> | undefined;
  const soon = () => new Promise<undefined>((resolve) => setTimeout(resolve, 0));
  return new ReadableStream({
    async pull(controller) {
      const put = (text: string) => text !== "" && controller.enqueue(encoder.encode(text));
      const burst: Uint8Array[] = [];
      const wasAtEdge = edges.isAtEdge;
      let read: Read | undefined = await (outstanding ?? reader.read());
      outstanding = undefined;
      while (read && !read.done) {
        burst.push(read.value);
        edges.pass(read.value);
        outstanding ??= reader.read();
        read = await Promise.race([outstanding, soon()]);
        if (read) outstanding = undefined;
      }
      const hasBegun = burst.length > 0;
      if (hasBegun && !isFirst && wasAtEdge) put(next());
      for (const chunk of burst) controller.enqueue(chunk);
      if (hasBegun && isFirst && edges.isAtEdge) {
        put(next());
        isFirst = false;
      }
      if (!read?.done) return;
      put(next());
      controller.close();
      end();
    },
    async cancel(reason) {
      end();
      await reader.cancel(reason);
    },
  });
}
