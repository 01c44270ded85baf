import { Component, type ContextType, createElement, Fragment, type ReactNode, Suspense } from "react";
import { Failure } from "../core/index.js";
import { CacheContext } from "./context.js";
import { PlainFailed, PlainMissing, PlainWait } from "./outcome.js";
import { Holder, HolderContext, waitAnew } from "./suspended.js";

export interface BoundaryProps {
  loading?: ReactNode;
  missing?: ReactNode;
  failed?: ReactNode | ((failure: Failure, again: () => void) => ReactNode);
  children?: ReactNode;
}

interface State {
  readonly thrown?: unknown;
  /** The subtree is rendered all the same, to find out whether it asks for something else by now. */
  readonly isTrying?: boolean;
}

/**
 * For a subtree that uses `useValue`: suspense and error boundary in one. `again` shows the subtree anew, which asks
 * again for what failed; so does a subtree that asks for something else. What is thrown besides failures goes on to the
 * boundary above.
 */
export class Boundary extends Component<BoundaryProps, State> {
  override state: State = {};

  static getDerivedStateFromError(thrown: unknown): State {
    return { thrown, isTrying: false };
  }

  static override contextType: typeof CacheContext = CacheContext;
  declare context: ContextType<typeof CacheContext>;

  readonly #holder = new Holder();
  #isHere = false;

  override componentDidMount(): void {
    this.#isHere = true;
  }

  /** An attempt has ended, or the parent shows something else: the failed subtree is tried once more. */
  override componentDidUpdate({ children }: BoundaryProps): void {
    const { thrown, isTrying } = this.state;
    for (const key of this.#holder.endAttempt(isTrying ? undefined : thrown)) waitAnew(this.context, key);
    if (thrown !== undefined && !isTrying && children !== this.props.children) this.setState({ isTrying: true });
  }

  /** Those who wait beneath it go with it; strict mode takes it off and puts it back in one go. */
  override componentWillUnmount(): void {
    this.#isHere = false;
    queueMicrotask(() => {
      if (!this.#isHere) this.#holder.letGo();
    });
  }

  readonly again = (): void => {
    for (const key of this.#holder.forgetFailures()) waitAnew(this.context, key);
    this.setState({ thrown: undefined });
  };

  readonly #failed = (failure: Failure): ReactNode => {
    const { missing, failed } = this.props;
    if (failure.kind === "missing") return missing ?? createElement(PlainMissing);
    if (typeof failed === "function") return failed(failure, this.again);
    return failed ?? createElement(PlainFailed, { failure, again: this.again });
  };

  override render(): ReactNode {
    const { loading, children } = this.props;
    const { thrown, isTrying } = this.state;
    const holder = this.#holder;
    const isKnown = holder.knows(thrown);
    if (thrown !== undefined && !isKnown) {
      if (!(thrown instanceof Failure)) throw thrown;
      return this.#failed(thrown);
    }
    const caught = isKnown && !isTrying ? thrown : undefined;
    const wait = loading ?? createElement(PlainWait);
    const fallback = createElement(Fallback, { holder, caught, failed: this.#failed, loading: wait });
    const begin = createElement(BeginAttempt, { holder, key: "begin" });
    const subtree = caught
      ? createElement(StillFailed, { holder, key: "failed" })
      : createElement(Fragment, { key: "subtree" }, children);
    const waiting = createElement(Suspense, { fallback }, begin, subtree);
    return createElement(HolderContext.Provider, { value: holder }, waiting);
  }
}

/** Rendered first each time that React tries to render the subtree. */
function BeginAttempt({ holder }: { holder: Holder }): ReactNode {
  holder.beginAttempt();
  return null;
}

/** Stands for a subtree that asks for just the failed entries. */
function StillFailed({ holder }: { holder: Holder }): ReactNode {
  throw holder.wait;
}

/** Stands in the place of a subtree that waits: for an answer, or until the failed entries are asked for again. */
function Fallback(props: {
  holder: Holder;
  caught: Failure | undefined;
  failed: (failure: Failure) => ReactNode;
  loading: ReactNode;
}): ReactNode {
  const failure = props.caught ?? props.holder.failedNow;
  return failure ? props.failed(failure) : props.loading;
}
