/**
 * A value as JSON that can stand in a page's `<script type="application/json">`, whatever texts are in it: nothing ends
 * the element, or begins a comment or a script in it (WHATWG HTML §4.12.1.3), and `JSON.parse` of its text gives the value back.
 * @example
 * const html = `<script type="application/json" id="held">${jsonForScript(takeSnapshot(cache))}</script>`;
 */
export function jsonForScript(value: unknown): string {
  const escaped = (character: string) => `\\u${character.charCodeAt(0).toString(16).padStart(4, "0")}`;
  return (JSON.stringify(value) ?? "null").replace(/[<>&\u2028\u2029]/g, escaped);
}
