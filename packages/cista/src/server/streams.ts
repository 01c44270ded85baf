/** As much of a writable stream of Node as a renderer uses. */
export interface NodeWritable {
  write(chunk: any, ...rest: any[]): any;
  end(...rest: any[]): any;
}

/**
 * A renderer writes one burst after the other, and says `flush` after each: between two of them an element may stand. What has
 * become known goes behind the first burst, and before each later one, so that a value is always there before what needs it.
 */
export function betweenBursts<W extends NodeWritable>(response: W, html: () => string): W {
  let isFirst = true;
  let isAtEdge = false;
  let hasWritten = false;
  const put = (text: string) => text !== "" && response.write(text);
  const own = {
    write(chunk: unknown, ...rest: unknown[]) {
      if (isAtEdge) put(html());
      isAtEdge = false;
      hasWritten = true;
      return response.write(chunk, ...rest);
    },
    end(...rest: unknown[]) {
      if (isFirst || isAtEdge) put(html());
      return response.end(...rest);
    },
    flush() {
      if (!hasWritten) return;
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

/** The same for a web stream, which has no `flush`: a burst has ended when nothing more is there to read one macrotask later. */
export function throughBursts(html: ReadableStream<Uint8Array>, next: () => string): ReadableStream<Uint8Array> {
  const reader = html.getReader();
  const encoder = new TextEncoder();
  let isFirst = true;
  let outstanding: Promise<Read> | undefined;
  const soon = () => new Promise<undefined>((resolve) => setTimeout(resolve, 0));
  return new ReadableStream({
    async pull(controller) {
      const burst: Uint8Array[] = [];
      let read: Read | undefined = await (outstanding ?? reader.read());
      outstanding = undefined;
      while (read && !read.done) {
        burst.push(read.value);
        outstanding ??= reader.read();
        read = await Promise.race([outstanding, soon()]);
        if (read) outstanding = undefined;
      }
      const put = (text: string) => text !== "" && controller.enqueue(encoder.encode(text));
      const hasBegun = burst.length > 0;
      if (hasBegun && !isFirst) put(next());
      for (const chunk of burst) controller.enqueue(chunk);
      if (hasBegun && isFirst) put(next());
      if (hasBegun) isFirst = false;
      if (!read?.done) return;
      put(next());
      controller.close();
    },
    cancel: (reason) => reader.cancel(reason),
  });
}
