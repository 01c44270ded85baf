export const rooms: Readonly<Record<string, { readonly mayImport: readonly string[]; readonly because: string }>>;
export function roomOf(file: string): string;
export function sourceFiles(): string[];
export function importsOf(file: string, text?: string): string[];
/** What a file imports and may not, each in a sentence. */
export function forbiddenImports(file: string, text?: string): string[];
