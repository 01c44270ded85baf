/** Where an element may stand in HTML that comes in pieces (WHATWG HTML §13.2.5). Rule H12. */

/** Elements whose content is text: no element begins in it. */
const rawText = /^(?:script|style|textarea|title|noscript|iframe|xmp|noembed|noframes)$/;
/** Elements within which a script element is not HTML's. */
const foreign = /^(?:svg|math)$/;

/** Goes along with the HTML, and knows whether the HTML so far ends right behind a tag. */
export class Edges {
  /** Whether an element may stand here. */
  isAtEdge = false;
  #state: "text" | "tag" | "comment" | "raw" = "text";
  /** Of the tag that is open: its beginning, the last character that is no white space, and the quotation mark of an attribute's value. */
  #begin = "";
  #last = "";
  #quote = "";
  /** The end of a comment, or of an element's text; and the last characters that came in it. */
  #ending = "";
  #tail = "";
  /** How many svg and math elements are open. */
  #foreign = 0;
  readonly #decoder = new TextDecoder();

  pass(chunk: unknown): void {
    const text = typeof chunk === "string" ? chunk : this.#decoder.decode(chunk as Uint8Array, { stream: true });
    for (const character of text) this.#step(character);
  }

  #step(character: string): void {
    this.isAtEdge = false;
    if (this.#state === "tag") this.#inTag(character);
    else if (this.#state === "text") {
      if (character === "<") this.#beginTag();
    } else {
      this.#tail = (this.#tail + character.toLowerCase()).slice(-this.#ending.length);
      if (this.#tail === this.#ending) this.#end();
    }
  }

  #beginTag(): void {
    this.#state = "tag";
    this.#begin = this.#last = this.#quote = "";
  }

  #inTag(character: string): void {
    if (this.#begin === "" && !/[a-z/!?]/i.test(character)) {
      this.#state = "text"; // a "<" that stands for itself
    } else if (this.#quote !== "") {
      if (character === this.#quote) this.#quote = "";
    } else if (character === ">") {
      this.#endTag();
    } else {
      if (/["']/.test(character) && this.#last === "=") this.#quote = character;
      if (this.#begin.length < 20) this.#begin += character;
      if (/\S/.test(character)) this.#last = character;
      if (this.#begin === "!--") this.#until("comment", "-->");
    }
  }

  #endTag(): void {
    const [, closing = "", name = ""] = /^(\/?)([a-z][a-z0-9-]*)/i.exec(this.#begin) ?? [];
    const element = name.toLowerCase();
    if (foreign.test(element) && this.#last !== "/") this.#foreign = Math.max(0, this.#foreign + (closing ? -1 : 1));
    if (closing === "" && rawText.test(element)) this.#until("raw", `</${element}>`);
    else this.#end();
  }

  #until(state: "comment" | "raw", ending: string): void {
    this.#state = state;
    this.#ending = ending;
    this.#tail = "";
  }

  #end(): void {
    this.#state = "text";
    this.isAtEdge = this.#foreign === 0;
  }
}
