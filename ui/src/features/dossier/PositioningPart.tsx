import type { PositioningRequest, Schemas } from "@/shared/api/client";
import { useLines, usePositioning, useTape } from "@/shared/api/queries";
import { compact, count, number, signedCompact } from "@/shared/format";
import { Defined } from "@/shared/ui/Defined";
import { Missing } from "@/shared/ui/Missing";
import { Failed, Loading } from "@/shared/ui/States";
import { AGAINST } from "./against";
import { Builds } from "./Builds";
import { ExpiryExposure } from "./ExpiryExposure";
import { ExposureHistory } from "./ExposureHistory";
import { ExposureProfile } from "./ExposureProfile";
import type { PartProps, Write } from "./part";
import { StrikeFigure } from "./StrikeFigure";

type Data = Schemas["PositioningView"];
type Rule = NonNullable<PositioningRequest["rule"]>;

const RULES: [Rule, string][] = [
  ["calls_sold_puts_bought", "sell calls, buy puts"],
  ["both_sold", "sell both"],
  ["both_bought", "buy both"],
];
const LAY = { week: "in that week", month: "later in that month", beyond: "beyond" } as const;

const NO_TICKETS: Schemas["TicketRow"][] = [];

/** Who leans on the stock: gamma exposure and open interest, where they lie, and how they are changing. */
export function PositioningPart({ symbol, at, params, onWrite }: PartProps) {
  const rule = RULES.find(([key]) => key === params.get("rule"))?.[0] ?? "calls_sold_puts_bought";
  const against = AGAINST.find(([key]) => key === params.get("against"))?.[0] ?? "yesterday";
  const chosen = (params.get("expirations") ?? "").split(",").filter((day) => /^\d{4}-\d\d-\d\d$/.test(day));
  const fan = params.get("fan");
  const answer = usePositioning(symbol, {
    ...at,
    rule,
    against,
    ...(chosen.length > 0 && { expirations: chosen.join(",") }),
    ...(fan && /^\d{4}-\d\d-\d\d$/.test(fan) && { fan }),
  });
  const data = answer.data;
  const tickets = useTape(symbol, at).data?.tickets ?? NO_TICKETS;
  const { lines } = useLines(symbol, at);
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="positioning" />;
  if (!data.chain_kept)
    return (
      <div className="dossier-body positioning" aria-busy={answer.isPlaceholderData}>
        <div className="dossier-column">
          <ExposureHistory data={data} />
        </div>
        <div className="dossier-column">
          <Standing data={data} rule={rule} onWrite={onWrite} />
          <p className="not-kept">
            The chain of this session was not kept, so there are no strikes, expirations and builds to show; what was
            summed up of it is.
            {data.buckets.some((part) => part.share !== null) &&
              ` Of gross exposure lay ${data.buckets.map((part) => `${number(part.share)} % ${LAY[part.bucket]}`).join(", ")}.`}
          </p>
        </div>
      </div>
    );
  return (
    <div className="dossier-body positioning" aria-busy={answer.isPlaceholderData}>
      <div className="dossier-column">
        <StrikeFigure data={data} tickets={tickets} lines={lines} against={against} params={params} onWrite={onWrite} />
        <div className="side-by-side">
          <ExposureHistory data={data} />
          <Builds data={data} params={params} onWrite={onWrite} />
        </div>
      </div>
      <div className="dossier-column">
        <Standing data={data} rule={rule} onWrite={onWrite} />
        <ExposureProfile data={data} lines={lines} />
        <ExpiryExposure data={data} asked={chosen} onWrite={onWrite} />
      </div>
    </div>
  );
}

function Standing({ data, rule, onWrite }: { data: Data; rule: Rule; onWrite: Write }) {
  const { now, changes } = data;
  const flip = data.flip;
  const away = flip === null ? null : 100 * (flip / data.spot - 1);
  return (
    <section className="figure places">
      <header>
        <h2>Where it stands</h2>
        <label className="figure-controls">
          if customers{" "}
          <select aria-label="Sign rule" value={rule} onChange={(event) => onWrite({ rule: event.target.value })}>
            {RULES.map(([key, words]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </select>
        </label>
      </header>
      <dl>
        <div>
          <dt>
            <Defined by="net_exposure">Net</Defined>{" "}
            <b>{now.net === null ? <Missing why={data.reason} /> : compact(now.net)}</b>
          </dt>
          <dd>
            {now.net === null ? (
              <>{data.reason}.</>
            ) : (
              <>
                $ a 1 % move
                {now.net_pct !== null && (
                  <>
                    , <b>{number(now.net_pct, 1)} %</b> of <Defined by="net_exposure_pct">a day’s value</Defined>
                  </>
                )}
                : dealers {now.net >= 0 ? "trade against the move and damp it" : "trade with the move and feed it"}.
                Calls {signedCompact(now.call)}, puts {signedCompact(now.put)}. Since the last snapshot{" "}
                <b>{signedCompact(changes.snapshot)}</b>, yesterday <b>{signedCompact(changes.yesterday)}</b>, five
                sessions <b>{signedCompact(changes.week)}</b>.
              </>
            )}
          </dd>
        </div>
        <div>
          <dt>
            <Defined by="flip">Flip</Defined>{" "}
            <b>{flip === null ? <Missing why={data.flip_reason} /> : number(flip, 2)}</b>
          </dt>
          <dd>
            {flip === null ? (
              <>None: {data.flip_reason}.</>
            ) : (
              <>
                <b>{number(Math.abs(away ?? 0), 1)} %</b> {(away ?? 0) < 0 ? "under" : "above"} the price; net exposure
                changes sign there.
              </>
            )}{" "}
            {data.peak_exposure !== null && (
              <>
                <Defined by="peak_exposure_strike">Most exposure</Defined> at <b>{number(data.peak_exposure, 2)}</b>.{" "}
              </>
            )}
            Most open interest at <b>{number(data.peak_interest, 2)}</b>; the top five strikes hold{" "}
            {number(data.top_strikes_pct)} %. Puts over calls {number(data.put_call_interest, 2)} open,{" "}
            {number(data.put_call_volume, 2)} traded.
          </dd>
        </div>
      </dl>
      <p className="muted small assumption">
        Assumed, not measured: {data.says}.
        {data.multiplier !== 100 && ` A contract stands for ${number(data.multiplier)}.`}
        {data.left_out > 0 &&
          now.net !== null &&
          ` ${count(data.left_out, "open contract")} could not be read and ${data.left_out === 1 ? "is" : "are"} left out.`}
        {data.adjusted.map(
          (a) =>
            ` ${count(a.contracts, "adjusted contract")} (${number(a.shares)} shares and $${number(a.cash)} each, ${number(a.open_interest)} open) are kept apart.`,
        )}
      </p>
    </section>
  );
}
