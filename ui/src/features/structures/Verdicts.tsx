import type { Schemas } from "@/shared/api/client";
import { number, signed } from "@/shared/format";

type Payoff = Schemas["Payoff"];

/** Three opinions side by side: hollow what options price, solid what the past did. */
export function Verdicts({
  structure,
  words,
  against,
}: {
  structure: Payoff;
  words: Record<string, string>;
  against: Payoff | null;
}) {
  const told = structure.judged;
  const rows: [string, (said: Schemas["Judged"]) => string][] = [
    ["Chance of profit", (said) => `${number(said.chance_of_profit, 1)} %`],
    ["Chance of the greatest loss", (said) => `${number(said.chance_of_max_loss, 1)} %`],
    ["Expected value", (said) => `${number(said.expected)} $`],
    ["Edge over entry", (said) => `${signed(said.edge, 0)} $`],
    ["Edge in its market’s width", (said) => `${number(said.edge_pct)} %`],
    ["Mean of the worst twentieth", (said) => `${number(said.shortfall)} $`],
  ];
  return (
    <section>
      <h3>Three opinions</h3>
      <table className="plain-table verdicts">
        <thead>
          <tr>
            <th>
              <span className="visually-hidden">What</span>
            </th>
            {told.map((said) => (
              <th key={said.opinion} scope="col">
                <span className={`opinion-mark ${said.opinion}`} aria-hidden="true" /> {words[said.opinion]}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, write]) => (
            <tr key={name}>
              <th scope="row">{name}</th>
              {told.map((said) => (
                <td key={said.opinion}>{write(said)}</td>
              ))}
            </tr>
          ))}
          {against && (
            <tr className="other">
              <th scope="row">The other’s chance of profit</th>
              {against.judged.map((said) => (
                <td key={said.opinion}>{number(said.chance_of_profit, 1)} %</td>
              ))}
            </tr>
          )}
          {against && (
            <tr className="other">
              <th scope="row">The other’s edge</th>
              {against.judged.map((said) => (
                <td key={said.opinion}>{signed(said.edge, 0)} $</td>
              ))}
            </tr>
          )}
        </tbody>
      </table>
    </section>
  );
}
