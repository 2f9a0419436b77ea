import type { DossierRequest } from "@/shared/api/client";
import { ESTIMATORS, WINDOWS } from "./choices";
import type { Write } from "./part";

/** Estimator and window of historical volatility. */
export function HvChoice({ request, onWrite }: { request: DossierRequest; onWrite: Write }) {
  const chosen = ESTIMATORS.find((e) => e.value === request.estimator);
  return (
    <>
      <select
        aria-label="Estimator of historical volatility"
        title={chosen && `Sees ${chosen.sees}`}
        value={request.estimator}
        onChange={(event) => onWrite({ estimator: event.target.value })}
      >
        {ESTIMATORS.map((e) => (
          <option key={e.value} value={e.value} title={`Sees ${e.sees}`}>
            {e.label}
          </option>
        ))}
      </select>
      <select
        aria-label="Window of historical volatility"
        value={request.window}
        onChange={(event) => onWrite({ window: event.target.value })}
      >
        {WINDOWS.map((n) => (
          <option key={n} value={n}>
            {n} sessions
          </option>
        ))}
      </select>
    </>
  );
}
