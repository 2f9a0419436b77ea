import { useEffect, useMemo } from "react";
import { useParams } from "react-router";
import { useSubject } from "@/frame/subject";
import { asOfDay, useAddress, useAsOf } from "@/shared/address";
import type { Dossier, DossierRequest } from "@/shared/api/client";
import { useDossier, useToggleTray } from "@/shared/api/queries";
import { MoveBracket } from "@/shared/chart/BracketBar";
import { arrow, compact, count, DASH, date, number, signed } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { Link } from "@/shared/route";
import { AsOf } from "@/shared/ui/AsOf";
import { Failed, Loading } from "@/shared/ui/States";
import { ChainPart } from "./ChainPart";
import { ESTIMATORS, WINDOWS } from "./choices";
import { FactsPart } from "./FactsPart";
import { MovesPart } from "./MovesPart";
import { MovesTable } from "./MovesTable";
import { OverTime } from "./OverTime";
import { PositioningPart } from "./PositioningPart";
import { PricePart } from "./PricePart";
import { PrintsPart } from "./PrintsPart";
import { Standing } from "./Standing";
import { TapePart } from "./TapePart";
import { TermStructure } from "./TermStructure";
import { VolatilityPart } from "./VolatilityPart";
import { VolatilityYear } from "./VolatilityYear";

const VIEWS = [
  ["overview", "Overview"],
  ["volatility", "Volatility"],
  ["moves", "Expected move"],
  ["positioning", "Positioning"],
  ["chain", "Chain"],
  ["tape", "Tape"],
  ["prints", "Off-exchange"],
  ["price", "Price"],
  ["facts", "Facts"],
] as const;
type View = (typeof VIEWS)[number][0];

/** Everything about one name. */
export default function DossierPage() {
  const { symbol = "" } = useParams();
  const [params, write] = useAddress();
  const asked = params.get("estimator");
  const estimator = ESTIMATORS.find((e) => e.value === asked)?.value ?? "yang_zhang";
  const askedWindow = Number(params.get("window"));
  const window = WINDOWS.includes(askedWindow) ? askedWindow : 21;
  const askedLine = params.get("line");
  const line = askedLine !== null && Number.isFinite(Number(askedLine)) ? Number(askedLine) : null;
  const asOf = useAsOf();
  const at = useMemo(() => (asOf ? { as_of: asOf } : {}), [asOf]);
  const request = { estimator, window, ...at } satisfies DossierRequest;
  const dossier = useDossier(symbol, request);
  const { setSubject } = useSubject();
  const data = dossier.data;

  useEffect(() => {
    if (!data) return;
    document.title = `${data.symbol} · Flinch`;
    setSubject({
      symbol: data.symbol,
      why: {
        page: "Dossier",
        words: "picked on its Dossier",
        link: asOfDay(`/dossier/${data.symbol}`, data.past),
        values: { price: data.today.price, iv30: data.standing.last, iv_rank: data.standing.rank },
      },
    });
    return () => {
      document.title = "Flinch";
    };
  }, [data, setSubject]);

  const askedView = params.get("view");
  const view = VIEWS.find(([key]) => key === askedView)?.[0] ?? "overview";
  const show = (key: View) => write({ view: key === "overview" ? null : key }, true);
  useKeys(Object.fromEntries(VIEWS.map(([key], i) => [String(i + 1), () => show(key)])));

  if (!data) return dossier.failureReason ? <Failed error={dossier.failureReason} /> : <Loading what={symbol} />;
  return (
    <div className="dossier">
      <Head data={data} />
      <nav className="dossier-views" aria-label="Parts of the Dossier">
        {VIEWS.map(([key, words], i) => (
          <button key={key} type="button" aria-current={view === key ? "page" : undefined} onClick={() => show(key)}>
            {words} <kbd>{i + 1}</kbd>
          </button>
        ))}
        <AsOf session={data.session} onWrite={write} />
      </nav>
      {view === "volatility" ? (
        <VolatilityPart symbol={data.symbol} request={request} params={params} onWrite={write} />
      ) : view === "moves" ? (
        <MovesPart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : view === "positioning" ? (
        <PositioningPart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : view === "chain" ? (
        <ChainPart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : view === "tape" ? (
        <TapePart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : view === "prints" ? (
        <PrintsPart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : view === "price" ? (
        <PricePart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : view === "facts" ? (
        <FactsPart symbol={data.symbol} at={at} params={params} onWrite={write} />
      ) : (
        <div className="dossier-body">
          <div className="dossier-column">
            <VolatilityYear data={data} estimator={estimator} window={window} onWrite={write} />
            <TermStructure data={data} />
          </div>
          <div className="dossier-column">
            <Standing data={data} />
            <MovesTable data={data} />
            <OverTime
              symbol={data.symbol}
              at={at}
              expression={params.get("over") ?? "iv_hv_ratio"}
              reference={line}
              onChoose={write}
            />
          </div>
        </div>
      )}
    </div>
  );
}

function Head({ data }: { data: Dossier }) {
  const { today } = data;
  const { has, toggle } = useToggleTray();
  const { subject } = useSubject();
  const inTray = has(data.symbol);
  const report = data.next_report;
  return (
    <header className="dossier-head">
      <div className="who">
        <h1>{data.symbol}</h1>
        <p>
          {data.company}
          <br />
          <span className="muted">
            {data.kind === "index" ? (
              data.kind
            ) : (
              <Link
                to={asOfDay(
                  `/lineup?${new URLSearchParams({
                    of: data.kind === "fund" ? `members:${data.symbol}` : `sector:${data.sector}`,
                    at: data.symbol,
                  })}`,
                  data.past,
                )}
                title={data.kind === "fund" ? "Its members side by side" : "Its sector side by side"}
              >
                {data.kind === "stock" ? data.sector : data.kind}
              </Link>
            )}
            {data.market_cap !== null && ` · $${compact(data.market_cap)}`}
          </span>
        </p>
      </div>
      <div className="quote">
        <span className="big">{number(today.price, 2)}</span>
        <span>
          {arrow(today.change)} {signed(today.change, 2)} · {signed(today.change_pct, 2)} %
        </span>
      </div>
      <figure className="today">
        {today.one_day_move_pct !== null && (
          <MoveBracket moved={today.change_pct} expected={today.one_day_move_pct} width={300} height={34} />
        )}
        <figcaption>
          {today.reason ? (
            <>
              Nothing is priced for {data.newest ? "today" : "that day"}: {today.reason}.
            </>
          ) : (
            <>
              <b>{number(today.spent_pct)} %</b> of {data.newest ? "today’s" : "that day’s"} ±
              {number(today.one_day_move, 2)} (±
              {number(today.one_day_move_pct, 2)} %) {data.newest ? "is" : "was"} spent
              {today.so_far && (
                <span
                  title={`${number(today.so_far.gone_pct)} % of the day’s variance has gone by, ${number(today.so_far.before_open_pct)} % of it before the open, as this name’s last 63 days were; ±${number(today.so_far.expected_pct, 2)} % was priced for it`}
                >
                  , <b>{number(today.so_far.spent_pct)} %</b> of what is due
                </span>
              )}
            </>
          )}
          <br />
          <span className="muted">
            {today.next_day_move === null ? (
              <>Nothing is priced for the next session: {today.next_reason}.</>
            ) : (
              <>
                priced {data.newest ? "now" : "then"} for the next session: ±{number(today.next_day_move, 2)} (±
                {number(today.next_day_move_pct, 2)} %)
              </>
            )}
          </span>
        </figcaption>
      </figure>
      <p className="report">
        {report ? (
          <>
            Earnings {date(report.session)}, {report.timing === "before_open" ? "before the open" : "after the close"}
            <br />
            <span className="muted">in {count(report.days, "day")}</span>
          </>
        ) : (
          <span className="muted">{data.kind === "stock" ? `Earnings ${DASH} none scheduled` : "No earnings"}</span>
        )}
      </p>
      <Link
        className="quiet"
        to={asOfDay(`/structures?u=name:${data.symbol}`, data.past)}
        title="Structures of this name (g)"
      >
        structures <kbd>g</kbd>
      </Link>
      <button
        type="button"
        className="keep"
        aria-pressed={inTray}
        onClick={() => subject && toggle(data.symbol, subject.why)}
      >
        {inTray ? "in the tray" : "put in the tray"} <kbd>t</kbd>
      </button>
    </header>
  );
}
