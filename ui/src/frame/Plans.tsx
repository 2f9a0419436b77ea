import { useState } from "react";
import Modal from "react-bootstrap/Modal";
import { usePlans } from "@/shared/api/queries";
import { DASH, date, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { oneAddress } from "@/shared/structures/one";
import { Segments } from "@/shared/ui/Segments";
import { Failed, Loading } from "@/shared/ui/States";
import { PlansTogether } from "./PlansTogether";

const VIEWS = [
  { value: "each" as const, label: "each" },
  { value: "together" as const, label: "together" },
];

/** Every plan with what it is worth, and which of its exits are reached. */
export function Plans({ asOf, onHide }: { asOf: string | null; onHide: () => void }) {
  const answer = usePlans(asOf);
  const plans = answer.data?.plans;
  const [view, setView] = useState<"each" | "together">("each");
  return (
    <Modal show onHide={onHide} size="xl" animation={false} aria-labelledby="plans-title">
      <Modal.Header closeButton>
        <Modal.Title id="plans-title">Plans{answer.data && ` on ${date(answer.data.session, true)}`}</Modal.Title>
        {plans && plans.length > 0 && <Segments legend="Plans" values={VIEWS} chosen={view} onChoose={setView} />}
      </Modal.Header>
      <Modal.Body className="plans-dialog" tabIndex={0}>
        {!plans ? (
          answer.failureReason ? (
            <Failed error={answer.failureReason} />
          ) : (
            <Loading what="your plans" />
          )
        ) : plans.length === 0 ? (
          <p className="muted">None yet. Open a structure and press f to make it a plan.</p>
        ) : view === "together" ? (
          <PlansTogether plans={plans} asOf={asOf} onHide={onHide} />
        ) : (
          <table className="plain-table">
            <thead>
              <tr>
                <th>Name</th>
                <th className="words">Structure</th>
                <th>Made</th>
                <th>Then $</th>
                <th>Now $</th>
                <th>Since $</th>
                <th>Days left</th>
                <th className="words">Exits</th>
              </tr>
            </thead>
            <tbody>
              {plans.map((plan) => (
                <tr key={plan.id}>
                  <th scope="row">{plan.symbol}</th>
                  <td className="words">
                    <Link to={`${oneAddress(`${plan.symbol} ${plan.legs}`)}&plan=1`} onClick={onHide}>
                      {plan.label} {plan.words}
                    </Link>
                    <div className="muted">{plan.why.words}</div>
                    {plan.notes && <div className="muted">{plan.notes}</div>}
                  </td>
                  <td>
                    {date(plan.made_on)} at {number(plan.spot, 2)}
                  </td>
                  <td>{number(plan.cost)}</td>
                  <td>{plan.problem ? <span title={plan.problem}>{DASH}</span> : number(plan.worth)}</td>
                  <td>{signed(plan.profit, 0)}</td>
                  <td>{number(plan.days_left)}</td>
                  <td className="words">
                    {plan.exits_now.map((exit) => (
                      <div key={exit.words} className={exit.reached ? "reached" : undefined}>
                        {exit.words}
                        {exit.reached && ": reached"}
                      </div>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Modal.Body>
    </Modal>
  );
}
