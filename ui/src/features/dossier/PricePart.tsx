import { useEffect, useState } from "react";
import Dropdown from "react-bootstrap/Dropdown";
import type { Schemas } from "@/shared/api/client";
import { usePrice } from "@/shared/api/queries";
import { compact, count, metricText, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { Segments } from "@/shared/ui/Segments";
import { Failed, Loading } from "@/shared/ui/States";
import { MetricField } from "./MetricField";
import { OwnLines, useOwnLines } from "./OwnLines";
import { PriceChart } from "./PriceChart";
import type { PartProps } from "./part";
import { type Choices, LAYERS, type Layer, LENGTHS, lastChoices, readChoices, writeChoices } from "./priceChoices";
import { placeWords } from "./priceOption";

type Data = Schemas["PriceView"];

/** One name's price in bars of any length, with what a trader lays over it. */
export function PricePart({ symbol, at, params, onWrite }: PartProps) {
  const choices = readChoices(params);
  const write = (changes: Parameters<typeof writeChoices>[0]) => writeChoices(changes, params, onWrite);
  useEffect(() => {
    const last = lastChoices(params);
    if (last) onWrite(last);
  }, [params, onWrite]);
  const answer = usePrice(symbol, {
    ...at,
    length: choices.length,
    extended: choices.extended,
    layers: choices.layers.filter((layer) => layer !== "volume"),
    averages: choices.averages.trim(),
    channel: choices.channel,
    deviations: choices.deviations,
    below: choices.below,
  });
  const data = answer.data;
  const failed = answer.failureReason;
  const by = params.get("by");
  const own = useOwnLines(symbol, at, by && /^\d{4}-\d\d-\d\d$/.test(by) ? by : null);
  const [placing, setPlacing] = useState(false);
  const tools = <Tools choices={choices} write={write} />;
  if (failed && !answer.isFetching)
    return (
      <div className="dossier-body price-part">
        <div className="figure-controls">{tools}</div>
        <Failed error={failed} />
      </div>
    );
  if (!data) return <Loading what="the bars" />;
  return (
    <div className="dossier-body price-part" aria-busy={answer.isPlaceholderData}>
      <Figure
        className="price"
        title={
          <>
            <i className="key did">Price</i>
            {choices.layers.includes("fans") && (
              <>
                {" "}
                in its <i className="key priced">expected moves</i>
              </>
            )}
            <span className="aside">{count(data.at.length, "bar")}</span>
          </>
        }
        controls={tools}
        chart={
          data.reason ? (
            <p className="not-kept">Nothing to show: {data.reason}.</p>
          ) : (
            <>
              <PriceChart
                data={data}
                volume={choices.layers.includes("volume")}
                lines={own.lines}
                placing={placing}
                onPut={(price) => {
                  setPlacing(false);
                  own.put(price);
                }}
                onMove={(id, price) => {
                  const line = own.lines.find((one) => one.id === id);
                  if (line) own.change(line, { price });
                }}
              />
              {data.below
                .filter((below) => below.reason)
                .map((below) => (
                  <p key={below.expression} className="rule-error" role="alert">
                    {below.expression}: {below.reason}
                  </p>
                ))}
            </>
          )
        }
        table={<Numbers data={data} />}
      />
      <OwnLines of={own} placing={placing} onPlace={setPlacing} onBy={(day) => onWrite({ by: day })} />
    </div>
  );
}

function Tools({ choices, write }: { choices: Choices; write: (changes: Parameters<typeof writeChoices>[0]) => void }) {
  const toggle = (layer: Layer) =>
    write({
      layers: LAYERS.map(([key]) => key)
        .filter((key) => (key === layer) !== choices.layers.includes(key))
        .join(" "),
    });
  return (
    <>
      <Segments
        legend="Length of a bar"
        values={LENGTHS}
        chosen={choices.length}
        onChoose={(length) => write({ bars: length })}
      />
      {choices.length !== "day" && (
        <label>
          <input
            type="checkbox"
            checked={choices.extended}
            onChange={() => write({ hours: choices.extended ? "regular" : "all" })}
          />{" "}
          all hours
        </label>
      )}
      <Dropdown autoClose="outside" align="end">
        <Dropdown.Toggle as="button" className="quiet">
          layers ({choices.layers.length})
        </Dropdown.Toggle>
        <Dropdown.Menu className="layers">
          {LAYERS.map(([key, words, what]) => (
            <label key={key} title={what}>
              <input type="checkbox" checked={choices.layers.includes(key)} onChange={() => toggle(key)} /> {words}
              <small>{what}</small>
            </label>
          ))}
          <div className="settings">
            <Setting
              label="Averages drawn"
              value={choices.averages}
              hint="sma, ema or wma and how many bars; at most four"
              onSet={(averages) => write({ averages })}
            />
            <Setting
              label="Channel, bars"
              value={String(choices.channel)}
              hint="3 to 504"
              onSet={(channel) => write({ channel })}
            />
            <Setting
              label="Channel, deviations"
              value={String(choices.deviations)}
              hint="its width, up to 10"
              onSet={(deviations) => write({ deviations })}
            />
          </div>
        </Dropdown.Menu>
      </Dropdown>
      {[0, 1].map((place) => (
        <MetricField
          key={place}
          id={`under-metrics-${place}`}
          label={place === 0 ? "Metric below" : "Second metric below"}
          placeholder={place === 0 ? "below: a metric" : "and another"}
          value={choices.below[place] ?? ""}
          most={400}
          onSet={(text) => {
            const next = [...choices.below];
            next[place] = text;
            write({ under: next.filter(Boolean).join("\n") });
          }}
        />
      ))}
    </>
  );
}

/** A text that is set when it is left or entered. */
function Setting({
  label,
  value,
  hint,
  onSet,
}: {
  label: string;
  value: string;
  hint: string;
  onSet: (value: string) => void;
}) {
  return (
    <label>
      {label}
      <input
        key={value}
        defaultValue={value.trim()}
        title={hint}
        maxLength={60}
        spellCheck={false}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
        onBlur={(event) => event.currentTarget.value.trim() !== value.trim() && onSet(event.currentTarget.value.trim())}
      />
    </label>
  );
}

function Numbers({ data }: { data: Data }) {
  return (
    <>
      {data.levels.length > 0 && (
        <table>
          <thead>
            <tr>
              <th data-kind="text">Level</th>
              <th>Price $</th>
              <th>Away %</th>
              <th>Away σ</th>
            </tr>
          </thead>
          <tbody>
            {data.levels.map((level) => (
              <tr key={`${level.layer} ${level.label} ${level.price}`}>
                <th scope="row">
                  {level.label}
                  {level.share_pct !== null && ` ${number(level.share_pct, 0)} %`}
                </th>
                <td>{number(level.price, 2)}</td>
                <td>{data.price === null ? "" : number(100 * (level.price / data.price - 1), 2)}</td>
                <td>
                  {data.price !== null && data.one_day_move !== null
                    ? number((level.price - data.price) / data.one_day_move, 2)
                    : ""}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <table>
        <thead>
          <tr>
            <th>Bar</th>
            <th>Open $</th>
            <th>High $</th>
            <th>Low $</th>
            <th>Close $</th>
            <th>Shares</th>
            {data.lines.map((line) => (
              <th key={line.label} title={line.expression}>
                {line.label}
              </th>
            ))}
            {data.below.map((below) => (
              <th key={below.expression}>
                {below.label} {below.unit}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {data.at
            .map((at, i) => ({ at, i }))
            .reverse()
            .slice(0, 1_000)
            .map(({ at, i }) => (
              <tr key={at}>
                <th scope="row">{placeWords(data, i)}</th>
                <td>{number(data.open[i], 2)}</td>
                <td>{number(data.high[i], 2)}</td>
                <td>{number(data.low[i], 2)}</td>
                <td>{number(data.close[i], 2)}</td>
                <td>{compact(data.volume[i])}</td>
                {data.lines.map((line) => (
                  <td key={line.label}>{number(line.values[i], 2)}</td>
                ))}
                {data.below.map((below) => (
                  <td key={below.expression}>{metricText(below.unit, below.decimals, below.values[i])}</td>
                ))}
              </tr>
            ))}
        </tbody>
      </table>
    </>
  );
}
