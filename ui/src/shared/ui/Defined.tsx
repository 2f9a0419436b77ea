import type { ReactNode } from "react";
import { useMetricMap } from "@/shared/api/queries";
import { Definition } from "./Definition";

/** Words that a metric of the catalogue defines, with the definition one hover or one focus away. */
export function Defined({ by, children }: { by: string; children: ReactNode }) {
  const metric = useMetricMap().get(by);
  if (!metric) return children;
  return (
    <Definition metric={metric}>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: the definition is reached with the keyboard too */}
      <span className="defined" tabIndex={0}>
        {children}
      </span>
    </Definition>
  );
}
