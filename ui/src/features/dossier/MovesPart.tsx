import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { useLines, useMoves, useTape } from "@/shared/api/queries";
import { EChart } from "@/shared/chart/EChart";
import { lineMarks, type OwnLineAt } from "@/shared/chart/lineMarks";
import { chartBase, monthAxis, type Palette, sessionTooltip, usePalette, valueAxis } from "@/shared/chart/palette";
import { fans, type Outline } from "@/shared/chart/series";
import { ticketMarks } from "@/shared/chart/ticketMarks";
import { told } from "@/shared/chart/told";
import { clock as clockOf, count, date, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { Figure } from "@/shared/ui/Figure";
import { Scrolling } from "@/shared/ui/Scrolling";
import { Failed, Loading } from "@/shared/ui/States";
import type { PartProps, Write } from "./part";

type Data = Schemas["MovesView"];
type Fan = Schemas["Fan"];
type Ticket = Schemas["TicketRow"];

const NO_TICKETS: Ticket[] = [];
const MARKED = 24;
const DAILY = 6;

const SETUP = `/screen?r=${encodeURIComponent(
  [
    "one_day_move_pct < 4",
    "abs(week_position) > 1",
    "abs(month_position) < 1",
    "week_position * month_position > 0",
  ].join("\n"),
)}&evidence=1&target=month`;

/** Where price stands in the moves that options priced, now and in the past. */
export function MovesPart({ symbol, at, params, onWrite }: PartProps) {
  const answer = useMoves(symbol, at);
  const data = answer.data;
  const tickets = useTape(symbol, at).data?.tickets ?? NO_TICKETS;
  const { lines } = useLines(symbol, at);
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="expected moves" />;
  return (
    <div className="dossier-body moves-part">
      <div className="dossier-column">
        <Fans data={data} tickets={tickets} lines={lines} params={params} onWrite={onWrite} />
      </div>
      <div className="dossier-column">
        <Places data={data} />
        <Today data={data} tickets={tickets} lines={lines} />
        <Ledger data={data} params={params} onWrite={onWrite} />
      </div>
    </div>
  );
}

const PERIODS = { both: "weeks and months", week: "weeks", month: "months" } as const;

function Fans({
  data,
  tickets,
  lines,
  params,
  onWrite,
}: {
  data: Data;
  tickets: Ticket[];
  lines: OwnLineAt[];
  params: URLSearchParams;
  onWrite: Write;
}) {
  const palette = usePalette();
  const asked = params.get("fans") ?? "";
  const period = asked === "week" || asked === "month" ? asked : "both";
  const shown = useMemo(
    () => data.fans.filter((fan) => fan.period === "ahead" || period === "both" || fan.period === period),
    [data, period],
  );
  const option = useMemo(
    () => makeOption(data, shown, tickets, lines, palette),
    [data, shown, tickets, lines, palette],
  );
  const ahead = data.fans.filter((fan) => fan.period === "ahead");
  return (
    <Figure
      title={
        <>
          <i className="key did">Price</i> in its <i className="key priced">expected moves</i>
          {ahead.length > 0 && (
            <span className="aside">
              ahead:{" "}
              {ahead.map((fan) => `${date(fan.end)} ±${number((100 * fan.half_width) / fan.anchor, 1)} %`).join(", ")}
            </span>
          )}
        </>
      }
      controls={
        <select aria-label="Fans shown" value={period} onChange={(event) => onWrite({ fans: event.target.value })}>
          {Object.entries(PERIODS).map(([key, words]) => (
            <option key={key} value={key}>
              {words}
            </option>
          ))}
        </select>
      }
      chart={
        <EChart
          option={option}
          label={`Half a year of daily prices of ${data.symbol} with the weekly and monthly expected moves as fans`}
        />
      }
      table={
        <table>
          <thead>
            <tr>
              <th>From</th>
              <th>To</th>
              <th>Period</th>
              <th>Anchor $</th>
              <th>± $</th>
              <th>Lower $</th>
              <th>Upper $</th>
            </tr>
          </thead>
          <tbody>
            {[...shown].reverse().map((fan) => (
              <tr key={`${fan.period}${fan.start}${fan.end}`}>
                <td>{date(fan.start, true)}</td>
                <td>{date(fan.end, true)}</td>
                <td>{fan.period}</td>
                <td>{number(fan.anchor, 2)}</td>
                <td>{number(fan.half_width, 2)}</td>
                <td>{number(fan.anchor - fan.half_width, 2)}</td>
                <td>{number(fan.anchor + fan.half_width, 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

const outline = (fan: Fan, from: string): Outline => ({
  points: fan.sessions.flatMap((day, i): [string, number, number][] =>
    day < from ? [] : [[day, fan.lower[i] ?? fan.anchor, fan.upper[i] ?? fan.anchor]],
  ),
  faint: !fan.current,
});

function makeOption(data: Data, shown: Fan[], tickets: Ticket[], lines: OwnLineAt[], c: Palette): EChartsCoreOption {
  const { bars } = data;
  const known = [...bars.low, ...bars.high, ...shown.flatMap((fan) => [...fan.lower, ...fan.upper])].filter(
    (price) => price !== null,
  );
  const base = chartBase(c);
  const first = bars.sessions[0] ?? "";
  const days = [...new Set([...bars.sessions, ...shown.flatMap((fan) => fan.sessions)])]
    .filter((d) => d >= first)
    .sort();
  const place = new Map(bars.sessions.map((day, i) => [day, i]));
  const inside = (day: string, period: string) =>
    shown.find((f) => f.period === period && f.start < day && day <= f.end);
  return {
    ...base,
    grid: { left: 46, right: 14, top: 10, bottom: 24 },
    tooltip: sessionTooltip<{ axisValue: string }>(c, (points) => {
      const day = points[0]?.axisValue ?? "";
      const i = place.get(day);
      const close = i === undefined ? null : (bars.close[i] ?? null);
      const lines: string[] = [];
      if (i !== undefined)
        lines.push(`close ${number(close, 2)}, ${number(bars.low[i], 2)} to ${number(bars.high[i], 2)}`);
      for (const period of ["week", "month"]) {
        const fan = inside(day, period);
        if (fan && close !== null)
          lines.push(
            `${period}: ${signed((close - fan.anchor) / fan.half_width, 2)} of ±${number(fan.half_width, 2)} from ${number(fan.anchor, 2)}`,
          );
      }
      for (const fan of shown.filter((f) => f.period === "ahead" && f.start < day && day <= f.end))
        lines.push(
          `to ${date(fan.end)}: ${number(fan.anchor - fan.half_width, 2)} to ${number(fan.anchor + fan.half_width, 2)}`,
        );
      return told(date(day, true), ...lines);
    }),
    xAxis: monthAxis(days, c),
    yAxis: valueAxis(c, { scale: true }),
    series: [
      {
        type: "candlestick",
        data: days.map((day) => {
          const i = place.get(day);
          return i === undefined || bars.close[i] === null
            ? "-"
            : [bars.open[i], bars.close[i], bars.low[i], bars.high[i]];
        }),
        z: 3,
        barMaxWidth: 5,
        markLine: lineMarks(lines, c, [Math.min(...known), Math.max(...known)]),
        itemStyle: { color: c.solid, color0: c.solid, borderColor: c.solid, borderColor0: c.solid },
      },
      fans(
        shown.map((fan) => outline(fan, first)).filter((o) => o.points.length > 1),
        c,
      ),
      { ...ticketMarks(tickets, c, (ticket) => ticket.at.slice(0, 10), DAILY, 10), silent: true },
    ],
  };
}

function Places({ data }: { data: Data }) {
  return (
    <section className="figure places">
      <header>
        <h2>Where price stands</h2>
      </header>
      <dl>
        {data.places.map((place) => (
          <Standing key={place.period} place={place} />
        ))}
      </dl>
      {data.out_of_the_week && (
        <p className="setup">
          Out of its week and inside its month. <Link to={SETUP}>How often that paid</Link>
        </p>
      )}
    </section>
  );
}

function Standing({ place }: { place: Schemas["Place"] }) {
  const name = place.period === "week" ? "Week" : "Month";
  const until = place.end ? `to ${date(place.end)}, ${count(place.sessions_left ?? 0, "session")} left` : "";
  if (place.position === null)
    return (
      <div>
        <dt>
          {name} <b>–</b>
        </dt>
        <dd>{place.reason}.</dd>
      </div>
    );
  const side = place.position >= 0 ? "upper" : "lower";
  const outside = Math.abs(place.position) > 1;
  return (
    <div>
      <dt>
        {name} <b>{signed(place.position, 2)}</b>
      </dt>
      <dd>
        of ±{number(place.half_width_pct, 1)} % (±{number(place.half_width, 2)}) from {number(place.anchor, 2)}, {until}
        ; {signed(place.pace, 2)} of the part that is over.{" "}
        {outside ? (
          <b>
            Beyond the {side} edge by {number(-(place.room_pct ?? 0), 1)} %.
          </b>
        ) : (
          <>
            Room to the {side} edge <b>{number(place.room_pct, 1)} %</b>
            {place.room_moves !== null && (
              <>
                , {number(place.room_moves, 1)} one-day moves: <b>{number(place.room_days, 1)}</b> expected days
              </>
            )}
            .
          </>
        )}
      </dd>
    </div>
  );
}

function Today({ data, tickets, lines }: { data: Data; tickets: Ticket[]; lines: OwnLineAt[] }) {
  const palette = usePalette();
  const { intraday: t } = data;
  const option = useMemo(() => todayOption(data, tickets, lines, palette), [data, tickets, lines, palette]);
  return (
    <Figure
      title={
        <>
          {data.newest ? "Today" : date(data.session, true)}{" "}
          <span className="aside">
            {t.reason
              ? t.reason
              : t.minutes.length === 0
                ? `±${number(t.one_day_move, 2)} was priced; minutes were not kept`
                : `in the priced move, ±${number(t.one_day_move, 2)}${tickets.length > 0 ? "; tickets ▲ ask ▼ bid ● between" : ""}`}
          </span>
        </>
      }
      chart={<EChart option={option} label={`The day's price of ${data.symbol} in its one-day expected move`} />}
      table={
        <table>
          <thead>
            <tr>
              <th>Minutes since the open</th>
              <th>Close $</th>
            </tr>
          </thead>
          <tbody>
            {t.minutes.map((minute, i) => (
              <tr key={minute}>
                <td>{minute}</td>
                <td>{number(t.close[i], 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

/** Minutes since the open. */
function minutesOf(at: string): number {
  const [hours = 0, minutes = 0, seconds = 0] = clockOf(at).split(":").map(Number);
  return 60 * (hours - 9) + minutes - 30 + seconds / 60;
}

function todayOption(data: Data, tickets: Ticket[], lines: OwnLineAt[], c: Palette): EChartsCoreOption {
  const { intraday: t } = data;
  const base = chartBase(c);
  const anchor = t.previous_close;
  const half = t.one_day_move;
  const points = t.fan?.minutes.map((minute, i): [number, number, number] => [
    minute,
    t.fan?.lower[i] ?? 0,
    t.fan?.upper[i] ?? 0,
  ]);
  const clock = (minutes: number) => {
    const at = 9 * 60 + 30 + minutes;
    return `${Math.floor(at / 60)}:${String(at % 60).padStart(2, "0")}`;
  };
  const reach =
    Math.max(half ?? 0, ...t.close.map((v) => (v === null || anchor === null ? 0 : Math.abs(v - anchor)))) * 1.12;
  return {
    ...base,
    grid: { left: 46, right: 14, top: 8, bottom: 20 },
    tooltip: {
      trigger: "axis",
      ...base.tooltip,
      formatter: (points: { seriesType: string; value: [number, number] }[]) => {
        const [minute, close] = points.find((point) => point.seriesType === "line")?.value ?? [0, 0];
        if (!minute && !close) return told("");
        const moved = anchor === null ? null : close - anchor;
        return told(
          clock(minute),
          `${number(close, 2)}, ${signed(moved, 2)}`,
          half !== null &&
            half > 0 &&
            moved !== null &&
            `${number((100 * Math.abs(moved)) / half)} % of the day’s move`,
        );
      },
    },
    xAxis: {
      type: "value",
      min: 0,
      max: t.session_minutes,
      interval: 60,
      axisLine: { lineStyle: { color: c.rule }, onZero: false },
      axisTick: { show: false },
      axisLabel: { color: c.muted, formatter: clock },
      splitLine: { show: false },
    },
    yAxis: {
      type: "value",
      min: anchor === null ? undefined : Number((anchor - reach).toPrecision(6)),
      max: anchor === null ? undefined : Number((anchor + reach).toPrecision(6)),
      splitNumber: 3,
      axisLabel: { color: c.muted, showMinLabel: false, showMaxLabel: false },
      splitLine: { lineStyle: { color: c.rule, type: "solid" } },
    },
    series: [
      {
        type: "line",
        data: t.minutes.map((minute, i) => [minute, t.close[i] ?? null]),
        symbol: "none",
        lineStyle: { color: c.solid, width: 2 },
        z: 3,
        markLine: anchor === null ? undefined : lineMarks(lines, c, [anchor - reach, anchor + reach]),
      },
      fans(points ? [{ points, faint: false }] : [], c),
      { ...ticketMarks(tickets, c, (ticket) => minutesOf(ticket.at), MARKED), silent: true },
    ],
  };
}

function Ledger({ data, params, onWrite }: { data: Data; params: URLSearchParams; onWrite: Write }) {
  const period = params.get("ledger") === "week" ? "week" : "month";
  const ledger = data.ledgers.find((l) => l.period === period);
  if (!ledger) return null;
  const share = ledger.known > 0 ? (100 * ledger.inside) / ledger.known : null;
  const told = ledger.verdict ?? "no cycle with a priced move is over";
  return (
    <section className="figure ledger">
      <header>
        <h2>
          Past cycles{" "}
          <span className="aside">
            {share !== null && (
              <>
                <b>{number(share)} %</b> of {ledger.known} inside, 68 % promised:{" "}
              </>
            )}
            {told}
          </span>
        </h2>
        <div className="figure-controls">
          <select
            aria-label="Cycles in the ledger"
            value={period}
            onChange={(event) => onWrite({ ledger: event.target.value })}
          >
            <option value="month">months</option>
            <option value="week">weeks</option>
          </select>
        </div>
      </header>
      <Scrolling label="Cycles">
        <table>
          <thead>
            <tr>
              <th>Ended</th>
              <th>± priced %</th>
              <th>Moved %</th>
              <th title="Move over the priced one">In moves</th>
              <th>Ended</th>
              <th title="Furthest excursion within the cycle, in priced moves">Worst</th>
            </tr>
          </thead>
          <tbody>
            {ledger.cycles.map((cycle) => (
              <tr key={cycle.end}>
                <th scope="row">{date(cycle.end, true)}</th>
                <td>{number(cycle.priced, 1)}</td>
                <td>{signed(cycle.moved, 1)}</td>
                <td>{signed(cycle.position, 2)}</td>
                <td>{cycle.inside ? "inside" : <b>outside</b>}</td>
                <td>{signed(cycle.worst, 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {ledger.missing > 0 && (
          <p className="muted small">
            {count(ledger.missing, "cycle")} left out: no move was priced at the start, or a close is missing.
          </p>
        )}
      </Scrolling>
    </section>
  );
}
