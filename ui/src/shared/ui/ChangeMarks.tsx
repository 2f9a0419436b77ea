import { Component, type RefObject } from "react";

type Props = {
  /** Where the rows are: `tr` with an id. */
  within: RefObject<HTMLElement | null>;
  /** The moment they are of. */
  version: string | undefined;
};

const FADES_MS = 2_400;
const STILL = "(prefers-reduced-motion: reduce)";

/**
 * Marks what a moment changed: cells of rows that were there before it and read otherwise after it. The mark fades; who wants no
 * motion keeps it until the next moment.
 */
export class ChangeMarks extends Component<Props> {
  getSnapshotBeforeUpdate(before: Props): Map<string, string[]> | null {
    const { within, version } = this.props;
    return before.version !== undefined && before.version !== version ? textsOf(within.current) : null;
  }

  componentDidUpdate(_props: Props, _state: unknown, texts: Map<string, string[]> | null): void {
    if (!texts) return;
    const { current } = this.props.within;
    for (const cell of current?.querySelectorAll("[data-told]") ?? []) cell.removeAttribute("data-told");
    const still = matchMedia(STILL).matches;
    for (const row of rowsOf(current)) {
      const said = texts.get(row.id);
      for (const [place, cell] of [...row.cells].entries()) {
        if (!said || said[place] === cell.textContent) continue;
        if (still) cell.setAttribute("data-told", "");
        else cell.animate([{ boxShadow: "inset 0 -2px 0 var(--f-muted)" }, {}], FADES_MS);
      }
    }
  }

  render() {
    return null;
  }
}

const rowsOf = (within: HTMLElement | null) => within?.querySelectorAll<HTMLTableRowElement>("tbody tr[id]") ?? [];

const textsOf = (within: HTMLElement | null) =>
  new Map([...rowsOf(within)].map((row) => [row.id, [...row.cells].map((cell) => cell.textContent ?? "")]));
