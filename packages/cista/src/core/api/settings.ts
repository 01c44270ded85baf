/** Settings that a source's definition and the cache's defaults decide together. */
import { type Duration, milliseconds } from "./duration.js";
import { CistaError, type Failure, preview } from "./failure.js";
import { defaultPolicy, type Freshness, type Policy, policyWith } from "./freshness.js";
import type { Interval } from "./reading.js";

/** Events at which a *stale* value is revalidated while it is watched. */
export type Trigger = "attach" | "visible" | "online";

export interface Retry {
  /** Tries after the first. Default 3. */
  times?: number;
  /** Delay before try n+1, full jitter under an exponential ceiling: random × min(longestPause, firstPause × 2^(n-1)). Defaults "500ms" and "30s". */
  firstPause?: Duration;
  longestPause?: Duration;
  /** Default: `failure.retryable` (rule R5). A failure's own `retryAfter` overrides the delay. */
  shouldRetry?(failure: Failure): boolean;
}

/** Defaults for every source of one cache. */
export interface Defaults extends Freshness {
  /** How long an idle entry is kept. Default "5m". */
  retain?: Duration;
  /** Default: three more tries, rule R5. */
  retry?: Retry | false;
  /** For one try. Default "30s". */
  timeout?: Duration;
  /** Events at which a *stale* value is revalidated while it is watched. Default: all three. Fresh values are not revalidated. While the page is hidden, "online" waits until it is visible. */
  triggers?: readonly Trigger[];
}

/** The members of a source's definition that are settings. The cache's defaults hold for a member that is left out. */
export interface SourceSettings extends Defaults {
  /** False: needs no network and runs offline too. Default true. */
  network?: boolean;
  /** A budget of bursts, which is refilled evenly over `per`. A burst is all that this source starts in one turn of the event loop. Requests beyond it wait, and the journal says why. Default { bursts: 100, per: "10s" }. */
  requestBudget?: { bursts: number; per: Duration } | false;
}

/** Retrying, with every member decided. */
export interface RetryPlan {
  readonly times: number;
  readonly firstPause: number;
  readonly longestPause: number;
  shouldRetry(failure: Failure): boolean;
}

/** All that a source's definition and the cache's defaults decide, lengths of time in milliseconds. */
export interface Settings {
  readonly policy: Policy;
  readonly retain: number;
  readonly triggers: readonly Trigger[];
  readonly revalidateEvery: number | IntervalOf;
  readonly retry: RetryPlan;
  readonly timeout: number;
  readonly usesNetwork: boolean;
  /** Rule R7; `per` in milliseconds. */
  readonly requestBudget: { readonly bursts: number; readonly per: number } | false;
}

/** The members of a definition that no setting is made of yet: `settingsOf` does not compile until each has its place. */
type Undecided = Exclude<
  keyof SourceSettings,
  keyof Freshness | "retain" | "triggers" | "retry" | "timeout" | "network" | "requestBudget"
>;

/** The milliseconds until the next revalidation, computed from the held value. */
export type IntervalOf = (value: unknown, params: unknown) => number;

export function intervalOf(interval: Interval<any>): number | IntervalOf {
  if (typeof interval !== "function") return milliseconds(interval, "revalidateEvery");
  return (value, params) => {
    const next = interval(value, params);
    return next === false ? Number.POSITIVE_INFINITY : milliseconds(next, "revalidateEvery");
  };
}

const allTriggers: Record<Trigger, true> = { attach: true, visible: true, online: true };

/** The library's defaults. */
const usual: Settings = {
  policy: defaultPolicy,
  retain: 300_000,
  triggers: Object.keys(allTriggers) as Trigger[],
  revalidateEvery: Number.POSITIVE_INFINITY,
  retry: retryPlan({}),
  timeout: 30_000,
  usesNetwork: true,
  requestBudget: { bursts: 100, per: 10_000 },
};

/** @param base the settings for all members that the definition leaves out */
export function settingsOf(
  definition: SourceSettings & { revalidateEvery?: Interval<any> },
  base: Settings = usual,
): Settings {
  const { retry, requestBudget, revalidateEvery } = definition;
  return {
    policy: policyWith(base.policy, definition),
    retain: milliseconds(definition.retain ?? base.retain, "retain"),
    triggers: definition.triggers ?? base.triggers,
    revalidateEvery: revalidateEvery == null ? base.revalidateEvery : intervalOf(revalidateEvery),
    retry: retry == null ? base.retry : retryPlan(retry),
    timeout: milliseconds(definition.timeout ?? base.timeout, "timeout"),
    usesNetwork: definition.network ?? base.usesNetwork,
    requestBudget: requestBudget == null ? base.requestBudget : budgetOf(requestBudget),
  } satisfies Settings & Record<Undecided, never>;
}

function budgetOf(budget: { bursts: number; per: Duration } | false): Settings["requestBudget"] {
  if (budget === false) return false;
  if (budget.bursts >= 1) return { bursts: budget.bursts, per: milliseconds(budget.per, "requestBudget.per") };
  throw new CistaError(
    "invalid-request-budget",
    DEVELOPMENT &&
      `requestBudget.bursts is a number, 1 or more, but it is ${preview(budget.bursts)}. For no limit, write requestBudget: false.`,
  );
}

export function retryPlan(retry: Retry | false): RetryPlan {
  if (retry === false) return { times: 0, firstPause: 0, longestPause: 0, shouldRetry: () => false };
  const { times = 3, firstPause = "500ms", longestPause = "30s" } = retry;
  return {
    times,
    firstPause: milliseconds(firstPause, "retry.firstPause"),
    longestPause: milliseconds(longestPause, "retry.longestPause"),
    shouldRetry: retry.shouldRetry ? (failure) => retry.shouldRetry?.(failure) ?? false : isRetryable,
  };
}

function isRetryable({ retryable }: Failure): boolean {
  return retryable;
}
