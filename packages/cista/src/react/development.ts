type Warnings = typeof import("./warnings.js");
let warnings: Warnings | undefined;

/** What developers are told, from a file that production never loads. */
export function inDevelopmentOnly(tell: (warnings: Warnings) => void): void {
  if (DEVELOPMENT) {
    if (warnings) tell(warnings);
    else void loadWarnings().then(tell);
  }
}

async function loadWarnings(): Promise<Warnings> {
  if (DEVELOPMENT) warnings ??= await import("./warnings.js");
  return warnings as Warnings;
}
