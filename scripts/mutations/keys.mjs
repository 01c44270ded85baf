/** Keys, and streams of events. */
export const keys = [
  ["D7 fresh", "entry.ts", 'if (this.isOpen) return "fresh";', ""],
  [
    "D7 closes",
    "kernel/asking.ts",
    "if (activity.watchers === 0) scheduleRelease(entry);\n}",
    "if (activity.watchers === 0 && !request.isOpen) scheduleRelease(entry);\n}",
  ],
  ["D7 ends", "request.ts", "if (!ended) void closed(iterator);", ""],
  ["keys order", "key.ts", ".sort()", ""],
  ["keys names", "shelf.ts", "if (old && !DEVELOPMENT) {", "if (false) {"],
];
