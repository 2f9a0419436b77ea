import type { ReactNode } from "react";
import { asOfDay, useAsOf } from "@/shared/address";
import { ApiError } from "@/shared/api/client";
import { useMarket, useMarkets } from "@/shared/api/queries";
import { Mark } from "@/shared/chart/Mark";
import { Link } from "@/shared/route";
import { useHold } from "@/shared/settled";

/** The page has nothing to show yet. */
export function Loading({ what }: { what: string }) {
  useHold(true);
  return (
    <div className="state" role="status">
      <Mark className="state-mark breathing" />
      <p>Reading {what} …</p>
    </div>
  );
}

/** Something went wrong: what happened, what to do, and the nearest names when one is unknown. */
export function Failed({ error, children }: { error: Error; children?: ReactNode }) {
  const asOf = useAsOf();
  const problem = error instanceof ApiError ? error.problem : null;
  const passing = error instanceof ApiError && error.passing;
  return (
    <div className="state" role="alert">
      <Mark className="state-mark" />
      <p>{error.message}</p>
      {passing && <p className="muted">Asking again every two seconds.</p>}
      {problem && problem.nearest.length > 0 && (
        <p>
          {problem.nearest.map((symbol) => (
            <Link key={symbol} className="nearest" to={asOfDay(`/dossier/${symbol}`, asOf)}>
              {symbol}
            </Link>
          ))}
        </p>
      )}
      {problem?.type === "market_empty" && (
        <p>
          <Link to="/data">To the Data page</Link>
        </p>
      )}
      {children}
    </div>
  );
}

/**
 * What is not kept; while the market is being filled it says that it is on its way, and the page shows it once it is there. A market
 * that has none of the kind says that it can be brought.
 */
export function NotKept({ what, kind, children }: { what: string; kind: string; children: ReactNode }) {
  const coming = useMarket().data?.coming;
  const list = useMarkets().data;
  const none = list?.markets.find(({ name }) => name === list.market)?.missing.includes(kind);
  if (coming)
    return (
      <p className="not-kept">
        {what} are on their way: the market is being filled ({coming.percent} %), and they are shown here when they are
        there.
      </p>
    );
  if (none)
    return (
      <p className="not-kept">
        This market has no {what.toLowerCase()}: bring files of the kind {kind.replaceAll("_", " ")} on the{" "}
        <Link to="/data">Data page</Link>.
      </p>
    );
  return <p className="not-kept">{children}</p>;
}

/** A part that is empty by right, with what to do about it. */
export function Empty({ children }: { children: ReactNode }) {
  return (
    <div className="state">
      <Mark className="state-mark" />
      {children}
    </div>
  );
}
