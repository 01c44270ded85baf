/** An element as data, so that it can be compared before it is made: its name, its attributes, what is in it. */
export interface Description {
  readonly name: string;
  readonly attributes: Readonly<Record<string, string>>;
  readonly children: readonly (Description | string)[];
}

type Content = Description | string | false | undefined | readonly (Description | string)[];

/** Describes an element. An attribute that is `undefined` or false is left out, one that is true is empty. */
export function element(
  name: string,
  attributes: Readonly<Record<string, string | boolean | undefined>> = {},
  ...content: readonly Content[]
): Description {
  const said = Object.entries(attributes).filter(([, value]) => value !== undefined && value !== false);
  const children = content.flat().filter((each): each is Description | string => each !== undefined && each !== false);
  return {
    name,
    attributes: Object.fromEntries(said.map(([name, value]) => [name, value === true ? "" : String(value)])),
    children,
  };
}

const svg = "http://www.w3.org/2000/svg";
const drawn = new Set(["svg", "path"]);

/** Makes what was described, node by node: no text is ever read as HTML, as Trusted Types ask for. */
export function made({ name, attributes, children }: Description): Element {
  const node = drawn.has(name) ? document.createElementNS(svg, name) : document.createElement(name);
  for (const [attribute, value] of Object.entries(attributes)) node.setAttribute(attribute, value);
  node.append(...children.map((child) => (typeof child === "string" ? child : made(child))));
  return node;
}
