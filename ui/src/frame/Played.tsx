import { type RefObject, useEffect, useRef, useState } from "react";
import { useAddress } from "@/shared/address";
import { useMarket, usePlayed } from "@/shared/api/queries";
import { date, instant, later, moment } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { useHold } from "@/shared/settled";
import { Segments } from "@/shared/ui/Segments";

const SPEEDS = [0, 1, 10, 60];
const QUARTER = 15;
const LOOK_MS = 50;
const REST_MS = 250;

/** A session that is over, as it was at one of its minutes: which one, what is known then, and how it goes on. */
export function Played({ asOf, main }: { asOf: string; main: RefObject<HTMLElement | null> }) {
  const [day = "", time = ""] = asOf.split("T");
  const market = useMarket().data;
  const told = usePlayed(asOf).data;
  const [, write] = useAddress();
  const [speed, setSpeed] = useState(0);
  // Where the slider is while a hand moves it; the market is asked for when the hand rests.
  const [held, setHeld] = useState<string | null>(null);
  const rest = useRef<ReturnType<typeof setTimeout>>(undefined);
  useHold(held !== null);
  useEffect(() => () => clearTimeout(rest.current), []);
  const opens = told?.opens.slice(11, 16) ?? market?.opens ?? "";
  const closes = told?.closes.slice(11, 16) ?? "";
  const first = later(opens, 1);
  const newest = market?.as_of.slice(0, 16) ?? "";

  function onGo(to: string) {
    const at = `${day}T${to < first ? first : to}`;
    // From its close on it is a session like others, and from the market's own moment on it is the market.
    if (at >= newest) write({ asof: null });
    else if (closes && to >= closes) write({ asof: day });
    else write({ asof: at });
  }
  const onStep = (minutes: number) => onGo(later(time, minutes));
  function onMove(to: string) {
    setHeld(to);
    clearTimeout(rest.current);
    rest.current = setTimeout(() => {
      setHeld(null);
      onGo(to);
    }, REST_MS);
  }
  usePlaying(speed, asOf, main, () => onStep(1));
  useKeys({
    ",": () => onStep(-1),
    ".": () => onStep(1),
    "<": () => onStep(-QUARTER),
    ">": () => onStep(QUARTER),
  });
  const step = (words: string, label: string, key: string, minutes: number) => (
    <button
      type="button"
      className="quiet"
      aria-label={label}
      title={`${label} (${key})`}
      onClick={() => onStep(minutes)}
    >
      {words}
    </button>
  );
  return (
    <section className="notice played" aria-label="Played again">
      <span>
        Played again: <b>{instant(`${day}T${held ?? time}:00`)}</b>
      </span>
      <span className="steps">
        {step("−15", "−15 minutes", "<", -QUARTER)}
        {step("‹", "‹ a minute back", ",", -1)}
        <input
          type="range"
          aria-label="Minute of the session"
          min={minutes(first)}
          max={minutes(closes || time)}
          value={minutes(held ?? time)}
          aria-valuetext={held ?? time}
          onChange={(event) => onMove(later("00:00", Number(event.target.value)))}
        />
        {step("›", "› a minute on", ".", 1)}
        {step("+15", "+15 minutes", ">", QUARTER)}
      </span>
      <Segments
        legend="How it goes on"
        values={SPEEDS.map((one) => ({ value: String(one), label: one === 0 ? "still" : `${one} ×` }))}
        chosen={String(speed)}
        onChoose={(value) => setSpeed(Number(value))}
      />
      <span className="muted">{told && known(told)}</span>
      <button type="button" className="quiet" onClick={() => write({ asof: day }, true)}>
        its close
      </button>
      <button type="button" className="quiet" onClick={() => write({ asof: null }, true)}>
        now
      </button>
    </section>
  );
}

type Told = NonNullable<ReturnType<typeof usePlayed>["data"]>;

/** What a minute does not have, in words. */
function known(told: Told): string {
  const chains = told.chains
    ? `chains of ${told.chains.slice(0, 10) === told.session ? told.chains.slice(11, 16) : moment(told.chains)}`
    : "no chains yet";
  const missing = [!told.trades && "option trades", !told.prints && "prints"].filter(Boolean);
  return missing.length > 0 ? `${chains}; no ${missing.join(" and no ")} of ${date(told.session)} are kept` : chains;
}

const minutes = (time: string) => {
  const [hour = 0, minute = 0] = time.split(":").map(Number);
  return hour * 60 + minute;
};

/** Takes the next minute when it is due and the one before is drawn: a machine that is too slow skips nothing. */
function usePlaying(speed: number, at: string, main: RefObject<HTMLElement | null>, onNext: () => void) {
  const next = useRef(onNext);
  next.current = onNext;
  // biome-ignore lint/correctness/useExhaustiveDependencies: every minute is waited for anew
  useEffect(() => {
    if (speed === 0) return;
    const due = performance.now() + 60_000 / speed;
    const timer = setInterval(() => {
      if (performance.now() < due || main.current?.getAttribute("aria-busy") !== "false") return;
      clearInterval(timer);
      next.current();
    }, LOOK_MS);
    return () => clearInterval(timer);
  }, [speed, at, main]);
}
