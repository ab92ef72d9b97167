const XML_FORBIDS = /[^\t\n\r\u{20}-\u{d7ff}\u{e000}-\u{fffd}\u{10000}-\u{10ffff}]/gu;

/**
 * A drawing as a file of its own: the theme's colours filled in, fonts named, well-formed whatever a name holds.
 * Only attributes are looked through for colours: a name is other people's text and stays as it is.
 */
export function standalone(drawing: SVGSVGElement, colourOf: (name: string) => string): string {
  const copy = drawing.cloneNode(true) as SVGSVGElement;
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("style", `background: ${colourOf("--paper")}; font-family: sans-serif`);
  for (const element of [copy, ...copy.querySelectorAll("*")])
    for (const attribute of [...element.attributes])
      if (attribute.value.includes("var("))
        element.setAttribute(
          attribute.name,
          attribute.value.replace(/var\((--[a-z]+)\)/g, (_, name: string) => colourOf(name)),
        );
  return new XMLSerializer().serializeToString(copy).replace(XML_FORBIDS, "\u{fffd}");
}
