import { measure } from "mitata";

/** Every result is summed in here, so that no work can be left out as unused. */
export const sink = { sum: 0 };
export function keep(value) {
  sink.sum += typeof value === "number" ? value : value ? 1 : 0;
}

const median = (list) => [...list].sort((one, other) => one - other)[list.length >> 1];
const options = { min_cpu_time: 60e6, min_samples: 8, warmup_samples: 3, batch_samples: 256 };

/** The subject's time over the baseline's: both measured in turns, the median of the rounds' own ratios. */
export async function ratioOf({ baseline, subject, rounds = 5, ...own }) {
  const ratios = [];
  for (let round = 0; round < rounds; round++) {
    const [first, second] = round % 2 ? [subject, baseline] : [baseline, subject];
    const one = (await measure(first, { ...options, ...own })).p50;
    const other = (await measure(second, { ...options, ...own })).p50;
    ratios.push(round % 2 ? one / other : other / one);
  }
  return median(ratios);
}

/**
 * The least time of the subject over the least of the baseline, in turns, each begun without young garbage: for work that makes so
 * much that the median of its times depends on when that is collected. What other work adds to a time is never less than nothing.
 */
export async function leastRatioOf({ baseline, subject, rounds = 100 }) {
  const time = async (work) => {
    globalThis.gc({ type: "minor" });
    const start = process.hrtime.bigint();
    await work();
    return Number(process.hrtime.bigint() - start);
  };
  for (let warm = 0; warm < 20; warm++) for (const work of [baseline, subject]) await time(work);
  const times = { baseline: [], subject: [] };
  for (let round = 0; round < rounds; round++) {
    times.baseline.push(await time(baseline));
    times.subject.push(await time(subject));
  }
  return Math.min(...times.subject) / Math.min(...times.baseline);
}

/** `ratioOf` for work that changes what it works on: each sample gets its own, made outside of the measured time. */
export function ratioOfOnce({ baseline, subject, rounds = 41 }) {
  const time = ({ prepare, work }) => {
    const given = prepare();
    globalThis.gc();
    const start = process.hrtime.bigint();
    const result = work(given);
    const end = process.hrtime.bigint();
    keep(result);
    return Number(end - start);
  };
  for (let warm = 0; warm < 8; warm++) [baseline, subject].forEach(time);
  const ratios = [];
  for (let round = 0; round < rounds; round++) {
    const [base, own] = round % 2 ? [time(baseline), time(subject)] : [time(subject), time(baseline)].reverse();
    ratios.push(own / base);
  }
  return median(ratios);
}

/**
 * The subject's CPU time over the baseline's, of this process alone, in turns: for work that waits for promises, or for another
 * process. The median of the rounds' own ratios.
 * @param batch so many calls make one time
 */
export async function cpuRatioOf({ baseline, subject, batch = 24, rounds = 41 }) {
  const time = async (work) => {
    const before = process.cpuUsage();
    for (let call = 0; call < batch; call++) {
      await work();
      if (call % 4 === 3) await new Promise(setImmediate);
    }
    const { user, system } = process.cpuUsage(before);
    return user + system;
  };
  for (let warm = 0; warm < 6; warm++) for (const work of [baseline, subject]) await time(work);
  const ratios = [];
  for (let round = 0; round < rounds; round++) {
    const isTurned = round % 2 === 1;
    const first = await time(isTurned ? subject : baseline);
    const second = await time(isTurned ? baseline : subject);
    ratios.push(isTurned ? first / second : second / first);
  }
  return median(ratios);
}
