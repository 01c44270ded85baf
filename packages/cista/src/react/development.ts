type Warnings = typeof import("./warnings.js");
let warnings: Warnings | undefined;
/** The warnings to tell when the file has arrived, in order; undefined before the file is loaded. */
let waiting: ((warnings: Warnings) => void)[] | undefined;

/** Tells warnings to developers, in order, from a file that production never loads. */
export function inDevelopmentOnly(tell: (warnings: Warnings) => void): void {
  if (DEVELOPMENT) {
    if (warnings) tell(warnings);
    else if (waiting) waiting.push(tell);
    else {
      waiting = [tell];
      void import("./warnings.js").then(tellAll);
    }
  }
}

/** In one go: a component that renders in between would be told of before those that rendered earlier. */
function tellAll(loaded: Warnings): void {
  if (DEVELOPMENT) {
    warnings = loaded;
    for (const tell of waiting?.splice(0) ?? []) tell(loaded);
  }
}
