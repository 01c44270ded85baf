type Warnings = typeof import("./warnings.js");
let warnings: Warnings | undefined;

/** What developers are told, from a file that production never loads. */
export function inDevelopmentOnly(tell: (warnings: Warnings) => void): void {
  if (!DEVELOPMENT) return;
  if (warnings) tell(warnings);
  else
    void import("./warnings.js").then((loaded) => {
      warnings = loaded;
      tell(loaded);
    });
}
