import type { Schemas } from "@/shared/api/client";
import { useNameTickets } from "@/shared/api/queries";
import { clock, compact, count, number, signed } from "@/shared/format";
import { Failed } from "@/shared/ui/States";

type Data = Schemas["NameTickets"];
const WIDTH = 228;
const HEIGHT = 132;
const RIGHT = 54;

/** The focused name's price today with its surviving tickets where they came, and where their money points. */
export function NameFigure({ request }: { request: Schemas["NameAsked"] }) {
  const answer = useNameTickets(request);
  const data = answer.data;
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : null;
  return (
    <section className="name-tickets" aria-label={`Surviving tickets of ${data.symbol}`}>
      <Picture data={data} />
      <p className="caption">
        ▲ ask ▼ bid ● between, larger for more; the bracket is today’s expected move, the marks beside it strikes
      </p>
      <p>
        {count(data.tickets, "ticket")}, ${compact(data.premium)}.{" "}
        {data.since === null ? (
          "None leans."
        ) : (
          <>
            Since then <b className={data.since >= 0.8 ? "gone" : undefined}>{signed(data.since, 2)}</b> of a day’s move
            {data.since >= 0.8 ? ": it has run already." : "."}
          </>
        )}
      </p>
    </section>
  );
}

function Picture({ data }: { data: Data }) {
  const prices = data.prices.filter((price) => price !== null);
  const before = data.previous_close;
  const band =
    before !== null && data.one_day_move !== null ? [before - data.one_day_move, before + data.one_day_move] : [];
  const strikes = data.pointed.map((p) => p.strike);
  const spanned = [...prices, ...band, ...(data.price === null ? [] : [data.price])];
  if (spanned.length === 0) return <p className="muted">No price of today is known.</p>;
  let low = Math.min(...spanned);
  let high = Math.max(...spanned);
  const room = 0.8 * (high - low || 1);
  // Strikes that lie far away are told at the edge.
  low = Math.max(low - room, Math.min(low, ...strikes)) - 0.02 * (high - low);
  high = Math.min(high + room, Math.max(high, ...strikes)) + 0.02 * (high - low);
  const opened = Date.parse(data.opens);
  const day = Date.parse(data.closes) - opened;
  const x = (at: number) => 2 + (WIDTH - RIGHT - 4) * Math.max(0, Math.min(1, (at - opened) / day));
  const y = (price: number) =>
    4 + (HEIGHT - 8) * (1 - (Math.max(low, Math.min(high, price)) - low) / (high - low || 1));
  const line = data.minutes
    .map((at, i) => [x(Date.parse(at)), data.prices[i]] as const)
    .filter((point): point is readonly [number, number] => point[1] !== null && point[1] !== undefined)
    .map(([px, price], i) => `${i ? "L" : "M"}${px.toFixed(1)} ${y(price).toFixed(1)}`)
    .join("");
  const most = Math.max(1, ...data.marks.map((mark) => mark.premium));
  const edge = WIDTH - RIGHT + 4;
  const label = `Price of ${data.symbol} today with ${count(data.marks.length, "ticket")}; the money points at ${data.pointed.map((p) => `${p.strike} ${p.is_call ? "calls" : "puts"}`).join(", ") || "no strike"}`;
  return (
    <svg className="name-picture" width={WIDTH} height={HEIGHT} role="img" aria-label={label}>
      <title>{label}</title>
      <path className="price" d={line} />
      {band.length === 2 && (
        <path className="priced" d={`M${edge + 4} ${y(band[1] as number)}h-4V${y(band[0] as number)}h4`} />
      )}
      {data.marks.map((mark) => (
        <path
          key={`${mark.at} ${mark.words}`}
          className={mark.is_call ? "mark call" : "mark put"}
          d={shape(
            mark.side,
            x(Date.parse(mark.at)),
            y(mark.price ?? data.price ?? low),
            2.5 + 4.5 * Math.sqrt(mark.premium / most),
          )}
        >
          <title>{`${clock(mark.at)}: ${mark.words}`}</title>
        </path>
      ))}
      {spread(data.pointed.map((p) => y(p.strike))).map((place, i) => {
        const p = data.pointed[i] as Data["pointed"][number];
        const beyond = p.strike > high ? "↑" : p.strike < low ? "↓" : "";
        return (
          <g key={`${p.strike} ${p.is_call}`} className={p.is_call ? "call" : "put"}>
            <path className="strike" d={`M${edge - 3} ${y(p.strike)}h6L${edge + 9} ${place}`} />
            <text x={edge + 11} y={place + 3.5}>
              {number(p.strike, p.strike % 1 ? 1 : 0)}
              {p.is_call ? "c" : "p"}
              {beyond}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

/** Labels at least ten pixels apart and inside, as near to their places as they go. */
function spread(places: number[]): number[] {
  const order = places.map((place, i) => ({ place, i })).sort((a, b) => a.place - b.place);
  let least = 6;
  for (const one of order) {
    one.place = Math.max(one.place, least);
    least = one.place + 10;
  }
  let most = HEIGHT - 5;
  for (const one of order.toReversed()) {
    one.place = Math.min(one.place, most);
    most = one.place - 10;
  }
  const out = [...places];
  for (const one of order) out[one.i] = one.place;
  return out;
}

function shape(side: string, px: number, py: number, r: number): string {
  if (side === "mid")
    return `M${px - r * 0.8} ${py}a${r * 0.8} ${r * 0.8} 0 1 0 ${r * 1.6} 0a${r * 0.8} ${r * 0.8} 0 1 0 ${-r * 1.6} 0`;
  const up = side === "ask" ? -1 : 1;
  return `M${px} ${py + up * r}l${r} ${-up * 1.7 * r}h${-2 * r}z`;
}
