export const mutations: readonly (readonly [rule: string, file: string, from: string, to: string])[];
export function patternOf(text: string): RegExp;
