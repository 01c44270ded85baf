export function picture(): string;
export function withTables(page: string): string;
export const paths: { readonly picture: string; readonly page: string };
