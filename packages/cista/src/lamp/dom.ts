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
function made({ name, attributes, children }: Description): Element {
  const node = drawn.has(name) ? document.createElementNS(svg, name) : document.createElement(name);
  for (const [attribute, value] of Object.entries(attributes)) node.setAttribute(attribute, value);
  node.append(...children.map(nodeOf));
  return node;
}

function nodeOf(child: Child): Node {
  return typeof child === "string" ? document.createTextNode(child) : made(child);
}

/**
 * Makes what is in `parent`, drawn as `was`, what is described now. What is still there stays the same element, so that
 * it keeps the focus, and a press that has begun on it ends on it.
 */
export function redraw(parent: ParentNode & Node, was: readonly Child[], now: readonly Child[]): void {
  const nodes = [...parent.childNodes];
  now.forEach((child, place) => {
    const [node, before] = [nodes[place], was[place]];
    if (node === undefined || before === undefined) parent.append(nodeOf(child));
    else if (typeof child === "string" || typeof before === "string" || !isSame(before, child)) {
      if (child !== before) node.replaceWith(nodeOf(child));
    } else mend(node as Element, before, child);
  });
  for (const node of nodes.slice(now.length)) node.remove();
}

type Child = Description | string;

/** What is pressed is the same only where the press does the same. */
function isSame(was: Description, now: Description): boolean {
  return was.name === now.name && was.attributes["data-act"] === now.attributes["data-act"];
}

function mend(node: Element, was: Description, now: Description): void {
  for (const name of Object.keys(was.attributes)) if (!(name in now.attributes)) node.removeAttribute(name);
  for (const [name, value] of Object.entries(now.attributes))
    if (was.attributes[name] !== value) node.setAttribute(name, value);
  // Once it has been pressed, a box is no longer moved by its attribute.
  if (node instanceof HTMLInputElement) node.checked = "checked" in now.attributes;
  redraw(node, was.children, now.children);
}
