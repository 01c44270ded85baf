export const path: string;
/** [number, title] */
export const rules: readonly (readonly [string, string])[];
export function numbersIn(text: string): string[];
export function homesOf(number: string): string[];
export function testsOf(number: string): string[];
export function placesPage(): string;
