import { cloneElement, type ReactElement, type Ref, useEffect, useRef, useState } from "react";
import Overlay from "react-bootstrap/Overlay";
import Popover from "react-bootstrap/Popover";
import type { Metric } from "@/shared/api/client";
import { Link } from "@/shared/route";

type Target = ReactElement<{
  ref?: Ref<HTMLElement>;
  onMouseEnter?: () => void;
  onMouseLeave?: () => void;
  onFocus?: () => void;
  onBlur?: () => void;
  onPointerDown?: () => void;
  "data-metric"?: string;
}>;

/** What a number means, one hover or one focus away, with the way to its entry in the Handbook. */
export function Definition({ metric, children }: { metric: Metric; children: Target }) {
  const [shown, setShown] = useState(false);
  const target = useRef<HTMLElement>(null);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  // Who presses knows what it is: nothing comes between one press and the next.
  const pressed = useRef(false);
  const later = (show: boolean) => {
    clearTimeout(timer.current);
    if (show && pressed.current) return;
    // Long enough to reach the link in it.
    timer.current = setTimeout(() => setShown(show), show ? 350 : 180);
  };
  useEffect(() => () => clearTimeout(timer.current), []);
  const on = {
    onMouseEnter: () => later(true),
    onMouseLeave: () => {
      pressed.current = false;
      later(false);
    },
    onFocus: () => later(true),
    onBlur: () => later(false),
    onPointerDown: () => {
      pressed.current = true;
      clearTimeout(timer.current);
      setShown(false);
    },
  };
  return (
    <>
      {cloneElement(children, { ref: target, "data-metric": metric.key, ...on })}
      <Overlay target={target.current} show={shown} placement="auto" transition={false}>
        <Popover className="definition" onMouseEnter={() => later(true)} onMouseLeave={() => later(false)}>
          <Popover.Body>
            <strong>
              {metric.label} {metric.unit && <span className="muted">({metric.unit})</span>}
            </strong>
            <p>{metric.definition}</p>
            <p className="formula">{metric.formula}</p>
            <p className="muted">
              {metric.source && `From ${metric.source}. `}
              <Link to={`/handbook/${metric.key}`}>Handbook</Link>
            </p>
          </Popover.Body>
        </Popover>
      </Overlay>
    </>
  );
}
