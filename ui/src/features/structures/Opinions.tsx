import { number } from "@/shared/format";

const WIDTH = 92;
const HEIGHT = 16;
const x = (chance: number) => 5 + ((WIDTH - 10) * chance) / 100;

/** Three chances of profit on one line from 0 to 100: hollow what options price, solid what the past did, a stroke the forecast. */
export function Opinions({ chances }: { chances: (number | null)[] }) {
  const [market, past, forecast] = chances;
  const words = `market ${number(market)} %, past ${number(past)} %, forecast ${number(forecast)} %`;
  const y = HEIGHT / 2;
  return (
    <svg className="opinions" width={WIDTH} height={HEIGHT} role="img" aria-label={`Chance of profit: ${words}`}>
      <title>{words}</title>
      <path className="axis" d={`M5 ${y}H${WIDTH - 5}M${x(50)} ${y - 2}v4`} />
      {known(market) && known(past) && <path className="span" d={`M${x(market)} ${y}H${x(past)}`} />}
      {known(past) && <circle className="past" cx={x(past)} cy={y} r={3.5} />}
      {known(market) && <circle className="market" cx={x(market)} cy={y} r={3.5} />}
      {known(forecast) && <path className="forecast" d={`M${x(forecast)} ${y - 6}v12`} />}
    </svg>
  );
}

const known = (value: number | null | undefined): value is number => value !== null && value !== undefined;
