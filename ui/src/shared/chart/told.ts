/**
 * What a tooltip tells: a heading and lines below it. Built of text nodes, never of HTML, so that whatever a user or an address
 * put into a text is shown as it is. Empty lines are left out.
 */
export function told(heading: string, ...lines: (string | false | null | undefined)[]): HTMLElement {
  const box = document.createElement("div");
  const head = document.createElement("b");
  head.textContent = heading;
  box.append(head);
  for (const line of lines) {
    if (line) box.append(document.createElement("br"), line);
  }
  return box;
}

/** The same, where the heading goes on in plain letters. */
export function toldOn(heading: string, rest: string, ...lines: (string | false | null | undefined)[]): HTMLElement {
  const box = told(heading, ...lines);
  box.firstChild?.after(rest);
  return box;
}
