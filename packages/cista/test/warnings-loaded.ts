/**
 * React's warnings are in a file that a page asks for with its first render: they are told when it is there,
 * which a busy machine does not do at once.
 */
export async function warningsLoaded(): Promise<void> {
  await import("../src/react/warnings.js");
  await new Promise((resolve) => setTimeout(resolve)); // whoever waited for the same file goes first
}
