declare const process: { env: Record<string, string | undefined> };

/**
 * Whether warnings and checks meant for developers are on: everywhere but where `NODE_ENV` is "production".
 * Written so that bundlers can replace `process.env.NODE_ENV`; a page without one counts as development.
 */
export function inDevelopment(): boolean {
  try {
    return process.env.NODE_ENV !== "production";
  } catch {
    return true;
  }
}
