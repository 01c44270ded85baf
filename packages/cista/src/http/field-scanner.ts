/**
 * One pass over the text of a header field, for every grammar that is read here (RFC 9110 §5.6, RFC 8288 §3, RFC 9651):
 * each character is looked at a fixed number of times, whatever a server sends.
 */
export class FieldScanner {
  readonly #text: string;
  #at = 0;
  /** From here on no quoted string is closed any more. */
  #unclosedFrom = Number.POSITIVE_INFINITY;

  constructor(text: string) {
    this.#text = text;
  }

  get isAtEnd(): boolean {
    return this.#at >= this.#text.length;
  }

  /** The character that comes next; "" at the end. */
  get next(): string {
    return this.#text.charAt(this.#at);
  }

  /** Goes past this character, if it comes next. */
  take(character: string): boolean {
    const found = this.next === character && character !== "";
    if (found) this.#at++;
    return found;
  }

  skipWhitespace(): void {
    this.run((character) => character.trim() === "");
  }

  /** RFC 9110 §5.6.2: a token; "" where none begins here. */
  token(): string {
    return this.run((character) => /[!#$%&'*+.^_`|~\w-]/.test(character));
  }

  /** Goes past all characters of this kind; returns them. */
  run(belongs: (character: string) => boolean): string {
    const from = this.#at;
    while (!this.isAtEnd && belongs(this.next)) this.#at++;
    return this.#text.slice(from, this.#at);
  }

  /** Goes past the next one of these characters. @returns the text before it, or `undefined` where there is none */
  until(character: string): string | undefined {
    const end = this.#text.indexOf(character, this.#at);
    if (end < 0) return undefined;
    const before = this.#text.slice(this.#at, end);
    this.#at = end + 1;
    return before;
  }

  /**
   * RFC 9110 §5.6.4: the content of a quoted string, its escapes undone. `undefined`, and nothing is gone past, where
   * none begins here or it is never closed.
   */
  quotedString(): string | undefined {
    if (this.next !== '"' || this.#at >= this.#unclosedFrom) return undefined;
    let content = "";
    for (let at = this.#at + 1; at < this.#text.length; at++) {
      const character = this.#text.charAt(at);
      if (character === '"') {
        this.#at = at + 1;
        return content;
      }
      if (character === "\\") at++;
      content += this.#text.charAt(at);
    }
    this.#unclosedFrom = this.#at;
    return undefined;
  }

  /** Goes past the rest of this member of a comma-separated list (RFC 9110 §5.6.1), and its comma; returns that rest. */
  restOfMember(): string {
    const from = this.#at;
    while (!this.isAtEnd && this.next !== ",") if (this.quotedString() === undefined) this.#at++;
    const rest = this.#text.slice(from, this.#at);
    this.take(",");
    return rest;
  }
}
