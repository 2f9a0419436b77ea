import Modal from "react-bootstrap/Modal";

const GROUPS: [string, [string, string][]][] = [
  [
    "Anywhere",
    [
      ["/", "find anything: names, pages, screens, metrics, baskets, plans, what can be done"],
      ["s", "Screen"],
      ["n", "Lineup"],
      ["d", "Dossier of the focused name"],
      ["b", "Tape"],
      ["x", "Off-exchange"],
      ["k", "Structures"],
      ["j", "Tripwires"],
      ["!", "move to what tripped"],
      ["g", "structures of the focused name"],
      ["h", "Handbook; at a column or a rule its entry"],
      ["t", "put the focused name in the tray, or take it out"],
      ["u", "undo the last change of the tray"],
      ["y", "move to the tray; ← → walk, Enter opens, Delete takes out"],
      ["i", "plans"],
      ["l", "lists: keep only, add, remove, paste, baskets"],
      ["[ ]", "the session before, the one after"],
      [", .", "in a session that is played again: a minute back, a minute on; < > a quarter of an hour"],
      ["p", "show or hide the Peek"],
      ["m", "light or dim"],
      ["?", "these keys"],
    ],
  ],
  [
    "In the results",
    [
      ["r", "move to the results"],
      ["↑ ↓", "walk through the names; the Peek follows"],
      ["← →", "walk through the columns"],
      ["Page ↑ ↓, Home, End", "walk in large steps"],
      ["Enter", "open the Dossier"],
    ],
  ],
  [
    "On the Screen, the Tape and Off-exchange",
    [
      ["o", "open a saved screen or a starter"],
      ["a", "add a rule"],
      ["e", "move to the rules; ↑ ↓ walk, Alt ↑ ↓ move one, Space switches it off, Enter edits it, Delete removes it"],
      [
        "1 2 3 4",
        "table, gallery, map, evidence; on the Tape by name, tickets, contracts, through the day, and 5 for the evidence; Off-exchange by name, the session’s prints",
      ],
      ["c", "copy the symbols, separated by commas"],
      ["w", "while the market moves: put the list in the order of this moment"],
    ],
  ],
  [
    "On Structures",
    [
      ["f", "what is made: kinds, days, strikes, widths"],
      ["1 2 3", "the list, the front, the record of the opinions; on the front ← → walk along it, ↑ goes to the knee"],
      ["Enter", "open the structure"],
    ],
  ],
  [
    "On one structure",
    [
      ["← →", "on a leg: strike down, up; with Shift the expiration; + − contracts, Delete takes it out"],
      ["v", "lay the structure as it is now under others; w changes places"],
      ["f", "its plan"],
      ["z", "back to where you came from"],
    ],
  ],
  [
    "On the Lineup",
    [
      ["1 2 3", "on one axis, against each other, correlation"],
      ["↑ ↓, Enter", "walk through the names, open the Dossier"],
    ],
  ],
  [
    "On the Dossier",
    [
      ["1 … 7", "overview, volatility, expected move, positioning, chain, tape, off-exchange"],
      ["← →", "in the chain: the expiration before, the next one; ↑ ↓ walk through the strikes"],
    ],
  ],
  [
    "On an edge of a rule",
    [
      ["← →", "move it by a bin; with Shift by five"],
      ["Delete", "open it"],
    ],
  ],
];

export function Keys({ show, onHide }: { show: boolean; onHide: () => void }) {
  return (
    <Modal show={show} onHide={onHide} aria-labelledby="keys-title" animation={false}>
      <Modal.Header closeButton>
        <Modal.Title id="keys-title">Keys</Modal.Title>
      </Modal.Header>
      <Modal.Body className="keys" tabIndex={0}>
        {GROUPS.map(([title, keys]) => (
          <section key={title}>
            <h3>{title}</h3>
            <dl>
              {keys.map(([key, what]) => (
                <div key={key}>
                  <dt>
                    <kbd>{key}</kbd>
                  </dt>
                  <dd>{what}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </Modal.Body>
    </Modal>
  );
}
