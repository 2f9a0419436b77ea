import type { ReactElement } from "react";
import OverlayTrigger from "react-bootstrap/OverlayTrigger";
import Popover from "react-bootstrap/Popover";
import type { Metric } from "@/shared/api/client";

/** What a number means, one hover or one focus away. */
export function Definition({ metric, children }: { metric: Metric; children: ReactElement }) {
  return (
    <OverlayTrigger
      placement="auto"
      trigger={["hover", "focus"]}
      delay={{ show: 350, hide: 60 }}
      overlay={
        <Popover className="definition">
          <Popover.Body>
            <strong>
              {metric.label} <span className="muted">({metric.unit})</span>
            </strong>
            <p>{metric.definition}</p>
            <p className="formula">{metric.formula}</p>
            <p className="muted">From {metric.source}.</p>
          </Popover.Body>
        </Popover>
      }
    >
      {children}
    </OverlayTrigger>
  );
}
