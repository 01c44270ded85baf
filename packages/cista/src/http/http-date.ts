const months = "JanFebMarAprMayJunJulAugSepOctNovDec";
const time = "(\\d\\d):(\\d\\d):(\\d\\d)";
const day = "(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)";

/** RFC 9110 §5.6.7: the form in use, and the two obsolete ones that a recipient still has to take. */
const forms: readonly (readonly [RegExp, order: readonly number[]])[] = [
  [new RegExp(`^${day}, (\\d\\d) (\\w{3}) (\\d{4}) ${time} GMT$`), [1, 2, 3, 4]],
  [new RegExp(`^${day}[a-z]*day, (\\d\\d)-(\\w{3})-(\\d\\d) ${time} GMT$`), [1, 2, 3, 4]],
  [new RegExp(`^${day} (\\w{3}) ([ \\d]\\d) ${time} (\\d{4})$`), [2, 1, 6, 3]],
];

/** An HTTP-date in milliseconds since the Unix epoch; `undefined` for anything else, also for a text that `Date.parse` would take. */
export function httpDate(text: string | null | undefined, now: number = Date.now()): number | undefined {
  for (const [form, [dayAt, monthAt, yearAt, timeAt]] of forms as [RegExp, [number, number, number, number]][]) {
    const found = form.exec(text?.trim() ?? "");
    if (!found) continue;
    const number = (at: number) => Number(found[at]);
    const month = months.indexOf(found[monthAt] as string) / 3;
    const [hour, minute, second] = [number(timeAt), number(timeAt + 1), number(timeAt + 2)];
    if (!Number.isInteger(month) || month < 0 || hour > 23 || minute > 59 || second > 60) return undefined;
    const at = Date.UTC(fullYear(found[yearAt] as string, now), month, number(dayAt), hour, minute, second);
    return new Date(at - second * 1000).getUTCMonth() === month && number(dayAt) > 0 ? at : undefined;
  }
  return undefined;
}

/** Of two digits: one that seems more than 50 years ahead is the last past year that ends in them. */
function fullYear(digits: string, now: number): number {
  if (digits.length === 4) return Number(digits);
  const thisYear = new Date(now).getUTCFullYear();
  const year = thisYear - (thisYear % 100) + Number(digits);
  return year > thisYear + 50 ? year - 100 : year;
}
