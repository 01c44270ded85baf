const hut = (n) => ({ id: `h-${String(n).padStart(4, "0")}`, name: "Harebell Hut", water: n * 3, open: n % 2 === 0 });
const rows = { 53: 0, 10000: 150, 100000: 1500 };

/** Values of about so many bytes of JSON. */
export function bodyOf(size) {
  return rows[size] === 0
    ? { id: "h-07", name: "Harebell Hut", water: 90 }
    : { huts: Array.from({ length: rows[size] }, (_, n) => hut(n)) };
}
export const sizes = Object.keys(rows).map(Number);
