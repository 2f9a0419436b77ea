import { type ReactNode, useState } from "react";
import { Scrolling } from "@/shared/ui/Scrolling";

/** A titled part of a page that holds a chart, its controls, and the same numbers as a table. */
export function Figure({
  title,
  className = "",
  controls,
  chart,
  table,
}: {
  title: ReactNode;
  className?: string;
  controls?: ReactNode;
  chart: ReactNode;
  table: ReactNode;
}) {
  const [asTable, setAsTable] = useState(false);
  return (
    <section className={`figure ${className}`}>
      <header>
        <h2>{title}</h2>
        <div className="figure-controls">
          {controls}
          <button type="button" className="quiet" aria-pressed={asTable} onClick={() => setAsTable(!asTable)}>
            {asTable ? "show as chart" : "show as table"}
          </button>
        </div>
      </header>
      {asTable ? <Scrolling label="The numbers">{table}</Scrolling> : <div className="figure-chart">{chart}</div>}
    </section>
  );
}
