/** Streams of one tab, which another may take over. Rules B2, B8. */
import { Failure } from "../../core/index.js";

/** The values of a stream, until another tab opens it in this one's place. @param whenLost calls back when that happens */
export async function* untilLost(
  stream: AsyncIterable<unknown>,
  whenLost: (lose: () => void) => void,
): AsyncGenerator<unknown> {
  const iterator = stream[Symbol.asyncIterator]();
  const step = () =>
    new Promise<IteratorResult<unknown>>((resolve, reject) => {
      whenLost(() => reject(new Failure("network", "The stream is opened by another tab.", { retryAfter: 0 })));
      iterator.next().then(resolve, reject);
    });
  try {
    for (let next = await step(); !next.done; next = await step()) yield next.value;
  } finally {
    Promise.resolve(iterator.return?.()).catch(() => {});
  }
}
