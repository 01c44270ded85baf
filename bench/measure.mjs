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

/** The same for work that changes what it works on: each sample gets its own, made outside of the measured time. */
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
