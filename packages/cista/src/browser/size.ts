/** About how many bytes a value takes, as text or as the browser stores it. @param enough reckoned no further than that */
export function roughSize(value: unknown, enough: number): number {
  let bytes = 0;
  const pending = [value];
  while (pending.length > 0 && bytes <= enough) {
    const each = pending.pop();
    if (typeof each === "string") bytes += each.length + 4;
    else if (each instanceof ArrayBuffer || ArrayBuffer.isView(each)) bytes += each.byteLength;
    else if (typeof each === "object" && each !== null) {
      bytes += 8;
      for (const [name, member] of Object.entries(each)) {
        bytes += name.length;
        pending.push(member);
      }
    } else bytes += 8;
  }
  return bytes;
}
