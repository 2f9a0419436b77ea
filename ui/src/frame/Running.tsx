import Dropdown from "react-bootstrap/Dropdown";
import type { Schemas } from "@/shared/api/client";
import { useLetRun, useRun } from "@/shared/api/queries";
import { moment, number } from "@/shared/format";

type Run = Schemas["RunInfo"];
type Asked = Schemas["RunAsked"];

const CHOICES: { words: string; asked: Asked }[] = [
  { words: "stand still", asked: { speed: 0, to: null } },
  { words: "run as the clock does", asked: { speed: 1, to: null } },
  { words: "run 10 times as fast", asked: { speed: 10, to: null } },
  { words: "run 60 times as fast", asked: { speed: 60, to: null } },
];
const KINDS: Record<string, string> = {
  minute_bars: "minutes",
  option_trades: "option trades",
  prints: "prints",
  chains: "chains",
};
const PLACES: { words: string; asked: Asked }[] = [
  { words: "to the close", asked: { speed: null, to: "close" } },
  { words: "to the next open", asked: { speed: null, to: "open" } },
  { words: "a session on, to the same time", asked: { speed: null, to: "session" } },
];

/** How the market runs, and what else it can do; nothing where its source does not go on. */
export function Running() {
  const run = useRun().data;
  const change = useLetRun();
  if (!run?.goes_on) return null;
  const item = ({ words, asked }: { words: string; asked: Asked }) => (
    <Dropdown.Item
      as="button"
      type="button"
      key={words}
      active={asked.speed === run.speed && run.until === null}
      onClick={() => change.mutate(asked)}
    >
      {words}
    </Dropdown.Item>
  );
  return (
    <Dropdown align="end">
      <Dropdown.Toggle as="button" className={run.stopped ? "quiet run stopped" : "quiet run"} title={told(run)}>
        {short(run)}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {CHOICES.map(item)}
        <Dropdown.Divider />
        {PLACES.map(item)}
      </Dropdown.Menu>
    </Dropdown>
  );
}

function short(run: Run): string {
  if (run.stopped) return "stopped";
  if (run.until) return "on its way";
  if (run.speed === 0) return "still";
  const late = run.ages.filter(({ age }) => age === "late" || age === "stopped").map(({ kind }) => kind);
  if (late.length === 0) return `${run.speed} ×`;
  // With the minutes everything else is late.
  const which = late.includes("minute_bars") ? "" : `${late.map((kind) => KINDS[kind] ?? kind).join(", ")} `;
  return `${run.speed} × (${which}late)`;
}

function told(run: Run): string {
  if (run.stopped) return "The source says nothing. It is begun again by itself, and what was missed comes";
  if (run.until) return `The market runs to ${moment(run.until)} as fast as it can, and then stands still`;
  if (run.speed === 0) return "The market stands still. Let it run";
  const late = run.behind >= 60 ? `; it is ${number(Math.round(run.behind / 60))} min of the market behind` : "";
  const each = run.ages.map(
    ({ kind, moment: at, age }) => `${KINDS[kind] ?? kind} ${age}${at ? `, of ${at.slice(11, 16)}` : ""}`,
  );
  return `The market runs ${run.speed} times as fast as the clock${late}.\n${each.join("\n")}`;
}
