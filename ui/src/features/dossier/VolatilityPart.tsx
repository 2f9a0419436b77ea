import type { DossierRequest } from "@/shared/api/client";
import { useVolatility } from "@/shared/api/queries";
import { Failed, Loading } from "@/shared/ui/States";
import { ConeChart } from "./ConeChart";
import { PastReports } from "./PastReports";
import type { Write } from "./part";
import { SmileFigure } from "./SmileFigure";
import { VolatilityHistory } from "./VolatilityHistory";

/** One name's volatility: what is priced against what happens, by time, strike, horizon and report. */
export function VolatilityPart({
  symbol,
  request,
  params,
  onWrite,
}: {
  symbol: string;
  request: DossierRequest;
  params: URLSearchParams;
  onWrite: Write;
}) {
  const answer = useVolatility(symbol, request);
  const data = answer.data;
  if (!data) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="volatility" />;
  return (
    <div className="dossier-body">
      <div className="dossier-column">
        <VolatilityHistory data={data} request={request} onWrite={onWrite} />
        <SmileFigure data={data} params={params} onWrite={onWrite} />
      </div>
      <div className="dossier-column">
        <ConeChart data={data} />
        <PastReports data={data} />
      </div>
    </div>
  );
}
