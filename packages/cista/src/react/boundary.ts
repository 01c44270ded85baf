import { Component, type ContextType, createElement, type ReactNode, Suspense } from "react";
import { Failure } from "../core/index.js";
import { CacheContext } from "./context.js";
import { plainFailed, plainMissing, plainWait } from "./outcome.js";
import { Holder, HolderContext, waitAnew } from "./suspended.js";

export interface BoundaryProps {
  loading?: ReactNode;
  missing?: ReactNode;
  failed?: ReactNode | ((failure: Failure, again: () => void) => ReactNode);
  children?: ReactNode;
}

interface State {
  readonly thrown?: unknown;
}

/**
 * For a subtree that uses `useValue`: suspense and error boundary in one. `again` shows the subtree anew, which asks
 * again for what failed. What is thrown besides failures goes on to the boundary above. Where the subtree is to show
 * something else, give the boundary a `key` that says what.
 */
export class Boundary extends Component<BoundaryProps, State> {
  override state: State = {};

  static getDerivedStateFromError(thrown: unknown): State {
    return { thrown };
  }

  static override contextType: typeof CacheContext = CacheContext;
  declare context: ContextType<typeof CacheContext>;

  readonly #holder = new Holder();
  #isHere = false;

  override componentDidMount(): void {
    this.#isHere = true;
  }

  /** Those who wait beneath it go with it; strict mode takes it off and puts it back in one go. */
  override componentWillUnmount(): void {
    this.#isHere = false;
    queueMicrotask(() => {
      if (!this.#isHere) this.#holder.letGo();
    });
  }

  readonly again = (): void => {
    const { thrown } = this.state;
    if (thrown instanceof Failure) waitAnew(this.context, thrown.key);
    this.setState({ thrown: undefined });
  };

  override render(): ReactNode {
    const { loading, missing, failed, children } = this.props;
    const { thrown } = this.state;
    if (thrown === undefined) {
      const subtree = createElement(Suspense, { fallback: loading ?? plainWait() }, children);
      return createElement(HolderContext.Provider, { value: this.#holder }, subtree);
    }
    if (!(thrown instanceof Failure)) throw thrown;
    if (thrown.kind === "missing") return missing ?? plainMissing();
    return typeof failed === "function" ? failed(thrown, this.again) : (failed ?? plainFailed(thrown, this.again));
  }
}
