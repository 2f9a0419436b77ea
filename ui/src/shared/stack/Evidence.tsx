import { api, type Schemas } from "@/shared/api/client";
import { type UnderWay, useEvidence, useMetricMap } from "@/shared/api/queries";
import { count, DASH, date, number, signed } from "@/shared/format";
import type { Rule, Screen } from "@/shared/stack/state";
import { TouchFigure } from "@/shared/stack/TouchFigure";
import type { Things } from "@/shared/stack/things";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Empty, Failed, Loading } from "@/shared/ui/States";

type Data = Schemas["Evidence"];
type Range = Schemas["Range"];
type Measured = Schemas["Measured"];

const MEASURES: Record<Measured["measure"], { label: string; title: string; share: boolean }> = {
  mean: {
    label: "Direction",
    title: "Mean move in expected moves, for the bet above zero and against it below",
    share: false,
  },
  size: { label: "Size", title: "Mean size of the move in expected moves, up or down", share: false },
  up: { label: "Won", title: "Share of cases that went the way of the bet", share: true },
  range: {
    label: "Range",
    title:
      "Mean distance from the lowest to the highest price on the way, in expected moves; a driftless walk has about 1.6",
    share: false,
  },
  beyond: { label: "Beyond", title: "Share of cases that moved more than the expected move", share: true },
};
const ORDER: Measured["measure"][] = ["mean", "size", "range", "up", "beyond"];

const VERDICT: Record<Measured["verdict"], string> = {
  "too few": "too few",
  none: "no better",
  above: "more",
  below: "less",
};

const TARGETS = {
  "": "none",
  month: "the month’s edge, by the cycle’s end",
  week: "the week’s edge, by the cycle’s end",
  up: "a rise",
  down: "a fall",
} as const;

const FLOW = "option flow";
const wordsOf = (text: string) => text.match(/[a-z_][a-z_0-9]*/g) ?? [];

/** What the address says of the side chosen: nothing when it is the usual one. */
function sided(chosen: string, usual: string): string | null {
  const side = chosen === "sign" ? (usual === "up" || usual === "lean" ? "week_position" : usual) : chosen;
  return side === usual ? null : side || null;
}

/** How often the stack, or one of its rules, fired before, what followed, and the base rates of the same. */
export function Evidence({
  things,
  screen,
  params,
  onWrite,
}: {
  things: Things;
  screen: Screen;
  params: URLSearchParams;
  onWrite: (changes: Record<string, string | null>) => void;
}) {
  const only = Number(params.get("only") ?? 0);
  const chosen = screen.rules[only - 1];
  const rules: Rule[] = chosen ? [{ ...chosen, on: true, group: null }] : screen.rules;
  const asked = params.get("target") ?? "";
  const kind = asked === "month" || asked === "week" || asked === "up" || asked === "down" ? asked : null;
  const moves = within(Number(params.get("moves") ?? 1), 0.1, 5, 1);
  const sessions = Math.round(within(Number(params.get("within") ?? 10), 1, 63, 10));
  const fresh = params.get("fresh") === "1";
  const metrics = useMetricMap();
  // Rules on trades that lean are bets in the direction of the lean.
  const leaning = rules.some((rule) => rule.on && wordsOf(rule.text).some((word) => metrics.get(word)?.group === FLOW));
  const tickets = things.table === "tickets";
  const usual = tickets ? "lean" : leaning ? "net_lean" : "up";
  const side = params.get("side")?.trim() || usual;
  const byLean = tickets && side === "lean";
  const bySign = side !== "up" && side !== "down" && !byLean;
  const entry = params.get("entry") === "open" ? "open" : "close";
  const answer = useEvidence({
    table: tickets ? "tickets" : "names",
    stack: { universe: screen.universe, rules, any_groups: chosen ? [] : screen.anyGroups },
    fresh,
    side,
    entry,
    target: kind === null ? null : { kind, moves, sessions },
  });
  const data = answer.data;
  return (
    <section className="evidence" aria-label="Evidence" aria-busy={answer.isFetching && !data}>
      <div className="view-tools">
        <label>
          Of{" "}
          <select
            aria-label="Evidence of"
            value={chosen ? only : 0}
            onChange={(event) => onWrite({ only: event.target.value === "0" ? null : event.target.value })}
          >
            <option value={0}>the whole stack</option>
            {screen.rules.map((rule, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a rule is its place
              <option key={i} value={i + 1}>
                {rule.text.slice(0, 48)}
              </option>
            ))}
          </select>
        </label>
        <label>
          <input
            type="checkbox"
            checked={fresh}
            onChange={(event) => onWrite({ fresh: event.target.checked ? "1" : null })}
          />{" "}
          first session of a stretch only
        </label>
        <label>
          Bet{" "}
          <select
            aria-label="Side of the bet"
            value={bySign ? "sign" : side}
            onChange={(event) => onWrite({ side: sided(event.target.value, usual) })}
          >
            {tickets && <option value="lean">the way the tickets lean</option>}
            <option value="up">up</option>
            <option value="down">down</option>
            <option value="sign">by the sign of</option>
          </select>
        </label>
        {bySign && (
          <input
            className="side-input"
            aria-label="Expression whose sign is the side of the bet"
            key={side}
            defaultValue={side}
            maxLength={1000}
            spellCheck={false}
            onBlur={(event) => onWrite({ side: sided(event.currentTarget.value.trim(), usual) })}
            onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          />
        )}
        <label>
          from{" "}
          <select
            aria-label="Outcomes count from"
            value={entry}
            onChange={(event) => onWrite({ entry: event.target.value === "open" ? "open" : null })}
          >
            <option value="close">that close</option>
            <option value="open">the next open</option>
          </select>
        </label>
        <label>
          Target{" "}
          <select
            aria-label="Target"
            value={kind ?? ""}
            onChange={(event) => onWrite({ target: event.target.value || null })}
          >
            {Object.entries(TARGETS).map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </select>
        </label>
        {(kind === "up" || kind === "down") && (
          <>
            <label>
              of{" "}
              <input
                className="edge-input"
                aria-label="Expected moves to the target"
                inputMode="decimal"
                key={`m${moves}`}
                defaultValue={moves}
                onBlur={(event) => onWrite({ moves: event.currentTarget.value })}
                onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
              />{" "}
              expected moves
            </label>
            <label>
              within{" "}
              <input
                className="edge-input"
                aria-label="Sessions to the target"
                inputMode="numeric"
                key={`s${sessions}`}
                defaultValue={sessions}
                onBlur={(event) => onWrite({ within: event.currentTarget.value })}
                onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
              />{" "}
              sessions
            </label>
          </>
        )}
      </div>
      {data ? (
        <Found data={data} />
      ) : answer.failureReason ? (
        <Empty>
          <p>{answer.failureReason.message}</p>
          {answer.isError && (
            <button type="button" className="quiet" onClick={() => answer.refetch()}>
              Ask again
            </button>
          )}
        </Empty>
      ) : answer.underWay ? (
        <Working job={answer.underWay} />
      ) : (
        <Loading what="every session held" />
      )}
      {data && answer.failureReason && <Failed error={answer.failureReason} />}
    </section>
  );
}

/** Evidence that is still being computed: how far it is, and a way to stop it. */
function Working({ job }: { job: UnderWay }) {
  return (
    <Empty>
      <p role="status">
        {job.stage || "waiting for a turn"} ({job.percent} %)
      </p>
      <progress aria-label="How much of the evidence is there" value={job.percent} max={100} />
      <button type="button" className="quiet" onClick={() => void api.cancelJob(job.id).catch(() => undefined)}>
        Cancel
      </button>
    </Empty>
  );
}

const within = (value: number, low: number, high: number, usual: number) =>
  Number.isFinite(value) ? Math.min(high, Math.max(low, value)) : usual;

function Found({ data }: { data: Data }) {
  const spread = Math.max(
    0.05,
    ...data.followed.flatMap((f) =>
      f.measures.flatMap((m) => [Math.abs(m.against_days.low ?? 0), Math.abs(m.against_days.high ?? 0)]),
    ),
  );
  return (
    <Scrolling label="Findings" className="evidence-found">
      <p className="verdict" role="status">
        {data.sentence}
      </p>
      {data.sideless > 0 && (
        <p className="muted">{count(data.sideless, "case")} left out: the side of the bet has no sign there.</p>
      )}
      {data.target && <p className="verdict target">{data.target.sentence}</p>}
      {data.target && <TouchFigure rows={data.target.by_distance} />}
      <Fired data={data} />
      {data.cases > 0 && (
        <table>
          <thead>
            <tr>
              <th>What followed</th>
              <th title="Cases whose outcome is known">Cases</th>
              <th title="Days at least a horizon apart: what overlaps is not counted twice">Indep. days</th>
              <th title="With its 95 % interval">After it</th>
              <th title="All names on the same days, each day as often as it fired">Same days</th>
              <th title="The same names on other days">Other days</th>
              <th title="After it less same days, with its 95 % interval">Difference</th>
              <th aria-label="Difference, drawn" />
              <th title="Against all names on the same days">Base rate</th>
            </tr>
          </thead>
          {ORDER.map((measure) => (
            <tbody key={measure}>
              <tr className="measure">
                <th scope="rowgroup" colSpan={9}>
                  {MEASURES[measure].label} <span className="muted">{MEASURES[measure].title.toLowerCase()}</span>
                </th>
              </tr>
              {data.followed.map((followed) => {
                const found = followed.measures.find((m) => m.measure === measure);
                return found && <Line key={followed.horizon} followed={followed} found={found} spread={spread} />;
              })}
            </tbody>
          ))}
        </table>
      )}
      <p className="muted small">
        Moves are in units of the move that options priced for as many sessions, with the sign of the bet; the base
        rates place the same bets. Intervals draw blocks of sessions and names, so names of one day, outcomes that
        overlap and the habits of a name count together; a verdict allows for all twelve looks at direction, size and
        range. Only what was known in each session is used; baskets, tray and fund members are today’s.
      </p>
    </Scrolling>
  );
}

function Line({ followed, found, spread }: { followed: Schemas["Followed"]; found: Measured; spread: number }) {
  const { share } = MEASURES[found.measure];
  const one = (value: number | null) => (share ? `${number(value === null ? null : 100 * value)} %` : number(value, 2));
  const sure = found.verdict === "above" || found.verdict === "below";
  return (
    <tr className={found.verdict === "too few" ? "few" : undefined}>
      <th scope="row">{followed.horizon === 1 ? "next session" : `${followed.horizon} sessions`}</th>
      <td>{number(followed.cases)}</td>
      <td>{followed.independent}</td>
      <td title={interval(found.fired, share)}>{one(found.fired.value)}</td>
      <td title={interval(found.same_days, share)}>{one(found.same_days.value)}</td>
      <td title={interval(found.other_days, share)}>{one(found.other_days.value)}</td>
      <td title={interval(found.against_days, share)}>
        {found.against_days.value === null
          ? DASH
          : share
            ? `${signed(100 * found.against_days.value, 1)} pts`
            : signed(found.against_days.value, 2)}
      </td>
      <td>
        <Interval found={found.against_days} spread={spread} sure={sure} />
      </td>
      <td className="says">{sure ? <b>{VERDICT[found.verdict]}</b> : VERDICT[found.verdict]}</td>
    </tr>
  );
}

function interval({ low, high }: Range, share: boolean): string {
  if (low === null || high === null) return "no interval";
  const text = (value: number) => (share ? `${signed(100 * value, 1)} %` : signed(value, 3));
  return `95 %: ${text(low)} to ${text(high)}`;
}

function Interval({ found, spread, sure }: { found: Range; spread: number; sure: boolean }) {
  const width = 96;
  const { value, low, high } = found;
  if (value === null || low === null || high === null) return null;
  const x = (v: number) => width / 2 + (Math.max(-spread, Math.min(spread, v)) / spread) * (width / 2 - 4);
  return (
    <svg className="interval" width={width} height={16} role="img" aria-label={interval(found, false)}>
      <path className="axis" d={`M${width / 2} 1v14`} />
      <path className={sure ? "span sure" : "span"} d={`M${x(low)} 8H${x(high)}`} />
      <circle className={sure ? "sure" : undefined} cx={x(value)} cy={8} r={3} />
    </svg>
  );
}

/** Names that met it, session by session. */
function Fired({ data }: { data: Data }) {
  const width = 1000;
  const height = 54;
  const most = Math.max(1, ...data.fired);
  const step = width / data.fired.length;
  const bars = data.fired
    .map((n, i) =>
      n > 0 ? `M${(i * step).toFixed(1)} ${height}V${(height - (height - 4) * (n / most)).toFixed(1)}` : "",
    )
    .join("");
  const first = data.sessions[0];
  const last = data.sessions.at(-1);
  return (
    <figure className="fired">
      <svg
        viewBox={`0 0 ${width} ${height}`}
        preserveAspectRatio="none"
        role="img"
        aria-label="Names that met it, by session"
      >
        <path d={bars} strokeWidth={Math.max(0.8, step * 0.7)} />
      </svg>
      <figcaption>
        <span>{first && date(first, true)}</span>
        <span>
          met by up to {count(most, "name")} a session, {count(data.names, "different name")} in all
        </span>
        <span>{last && date(last, true)}</span>
      </figcaption>
    </figure>
  );
}
