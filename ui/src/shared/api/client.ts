import createClient, { createQuerySerializer } from "openapi-fetch";
import { setExchangeZone } from "@/shared/format";
import { inMarket } from "@/shared/market";
import type { components, operations, paths } from "./schema";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

const plainly = createQuerySerializer();
const client = createClient<paths>({
  baseUrl: "",
  // Every call names the market, so that what comes is of the one that is shown.
  querySerializer: (query) => inMarket(`?${plainly(query)}`).slice(1),
});

/** An error from the server, or a server that does not answer (status 0). */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly problem: Problem,
  ) {
    super(problem.message);
  }

  /** Waiting helps: the database or the server is away, and asking again changes nothing twice. */
  get passing(): boolean {
    return this.status === 0 || this.status === 503;
  }
}

const unreachable: Problem = {
  type: "server_away",
  where: null,
  message: "Flinch's server does not answer. What you see stays; Flinch asks again by itself until it is back.",
  nearest: [],
  version: null,
};

type Answer<T> = { data?: T; error?: unknown; response: Response };

async function unwrap<T>(request: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await request;
  } catch (cause) {
    if (cause instanceof DOMException && cause.name === "AbortError") throw cause;
    throw new ApiError(0, unreachable);
  }
  if (answer.data !== undefined) return answer.data;
  const said = answer.error as Partial<Problem> | undefined;
  const message = said?.message ?? `The server answered ${answer.response.status}. Try again; nothing was changed.`;
  throw new ApiError(answer.response.status, {
    type: "error",
    where: null,
    nearest: [],
    version: null,
    ...said,
    message,
  });
}

/**
 * A change is known by a key: sent again, because its answer got lost, it is not done again. The key belongs to what is sent, so
 * that every try of one change has the same.
 */
const keys = new WeakMap<object, string>();
function keyed(change: object): { headers: Record<string, string> } {
  const key = keys.get(change) ?? crypto.randomUUID?.() ?? `${Date.now()}-${Math.random()}`;
  keys.set(change, key);
  return { headers: { "Idempotency-Key": key } };
}

export type AsOfRequest = { as_of?: string };
export type ScreenRequest = Schemas["ScreenRequest"];
export type RowsRequest = Schemas["RowsRequest"];
export type DossierRequest = NonNullable<operations["dossier_read_dossier__path_symbol__get"]["parameters"]["query"]>;
export type OverTimeRequest = NonNullable<
  operations["dossier_read_over_time_over_time__path_symbol__get"]["parameters"]["query"]
>;
export type PositioningRequest = NonNullable<
  operations["dossier_read_positioning_positioning__path_symbol__get"]["parameters"]["query"]
>;
export type TapeRequest = NonNullable<operations["dossier_read_tape_tape__path_symbol__get"]["parameters"]["query"]>;
export type PrintsQuery = NonNullable<
  operations["dossier_read_prints_prints__path_symbol__get"]["parameters"]["query"]
>;
export type PriceRequest = NonNullable<operations["dossier_read_price_price__path_symbol__get"]["parameters"]["query"]>;
export type LinesRequest = NonNullable<operations["lines_read_lines_of__path_symbol__get"]["parameters"]["query"]>;
export type FillsRequest = NonNullable<operations["tape_read_fills_fills__path_symbol__get"]["parameters"]["query"]>;
export type Why = Schemas["Why"];
export type ScreenReply = Schemas["ScreenReply"];
export type RuleReport = Schemas["RuleReport"];
export type ScreenBody = Schemas["ScreenBody"];
export type ScreenDraft = Schemas["ScreenDraft"];
export type SavedScreen = Schemas["SavedScreen"];
export type Starter = Schemas["Starter"];
export type Dossier = Schemas["Dossier"];
export type Metric = Schemas["MetricEntry"];
export type TrayOp = Schemas["TrayChange"]["op"];
export type FileFormat = "csv" | "xlsx" | "json";

/** What is removed, as it was read. */
export type Removed = { id: number; version?: number | null };

export const api = {
  market: async () => {
    const market = await unwrap(client.GET("/api/market"));
    setExchangeZone(market.zone);
    return market;
  },
  run: () => unwrap(client.GET("/api/run")),
  letRun: (body: Schemas["RunAsked"]) => unwrap(client.PUT("/api/run", { body })),
  markets: () => unwrap(client.GET("/api/markets")),
  kinds: () => unwrap(client.GET("/api/data/kinds")),
  makeMarket: (body: Schemas["MarketDraft"]) => unwrap(client.POST("/api/markets", { body, ...keyed(body) })),
  chooseMarket: (market: string) => unwrap(client.PUT("/api/markets/chosen", { body: { market } })),
  imports: () => unwrap(client.GET("/api/imports")),
  bringFile: (body: Schemas["UploadDraft"]) => unwrap(client.POST("/api/imports", { body, ...keyed(body) })),
  bringPart: (id: number, at: number, part: Blob) =>
    unwrap(
      client.PUT("/api/imports/{id}/part", {
        params: { path: { id }, query: { at } },
        headers: { "Content-Type": "application/octet-stream" },
        // The description knows no bodies that are bytes.
        ...({ body: part, bodySerializer: (body: Blob) => body } as object),
      }),
    ),
  putAway: (id: number) => unwrap(client.DELETE("/api/imports/{id}", { params: { path: { id } } })),
  lookAtFile: (id: number, body: Schemas["ImportHow"], signal: AbortSignal) =>
    unwrap(client.POST("/api/imports/{id}/look", { params: { path: { id } }, body, signal })),
  checkFile: (id: number, body: Schemas["ImportHow"]) =>
    unwrap(client.POST("/api/imports/{id}/check", { params: { path: { id } }, body })),
  loadFile: (id: number, body: Schemas["ImportHow"]) =>
    unwrap(client.POST("/api/imports/{id}/load", { params: { path: { id } }, body })),
  coverage: (of: string, signal: AbortSignal) =>
    unwrap(client.GET("/api/data/coverage", { params: { query: { of } }, signal })),
  checks: (signal: AbortSignal) => unwrap(client.GET("/api/data/checks", { signal })),
  sources: (signal: AbortSignal) => unwrap(client.GET("/api/data/sources", { signal })),
  prefer: (kind: string, order: string[]) =>
    unwrap(client.PUT("/api/data/sources/{kind}", { params: { path: { kind } }, body: { order } })),
  askOtherwise: (kind: string, source: string) =>
    unwrap(client.POST("/api/data/sources/{kind}/otherwise", { params: { path: { kind } }, body: { source } })),
  otherwise: (id: number) => unwrap(client.GET("/api/data/otherwise/{id}", { params: { path: { id } } })),
  mend: (check: string, body: Schemas["MendAsked"]) =>
    unwrap(client.POST("/api/data/checks/{check}/mend", { params: { path: { check } }, body })),
  importChanges: (id: number, signal: AbortSignal) =>
    unwrap(client.GET("/api/imports/history/{id}/changes", { params: { path: { id } }, signal })),
  undoImport: (id: number) => unwrap(client.POST("/api/imports/history/{id}/undo", { params: { path: { id } } })),
  importJob: (id: number) => unwrap(client.GET("/api/imports/jobs/{id}", { params: { path: { id } } })),
  removeMarket: (name: string) => unwrap(client.DELETE("/api/markets/{name}", { params: { path: { name } } })),
  names: () => unwrap(client.GET("/api/names")),
  handbook: () => unwrap(client.GET("/api/handbook")),
  check: (body: Schemas["CheckRequest"], signal: AbortSignal) => unwrap(client.POST("/api/check", { body, signal })),
  ownMetrics: () => unwrap(client.GET("/api/own-metrics")),
  saveOwnMetric: (body: Schemas["OwnMetricDraft"], id: number | null) =>
    id === null
      ? unwrap(client.POST("/api/own-metrics", { body, ...keyed(body) }))
      : unwrap(client.PUT("/api/own-metrics/{id}", { params: { path: { id } }, body, ...keyed(body) })),
  deleteOwnMetric: ({ id, version }: Removed) =>
    unwrap(client.DELETE("/api/own-metrics/{id}", { params: { path: { id }, query: { version } } })),
  restoreOwnMetric: (id: number) => unwrap(client.POST("/api/own-metrics/{id}/restore", { params: { path: { id } } })),
  screen: (body: ScreenRequest, signal: AbortSignal) => unwrap(client.POST("/api/screen", { body, signal })),
  screenRows: (body: RowsRequest, signal?: AbortSignal) => unwrap(client.POST("/api/screen/rows", { body, signal })),
  series: (body: Schemas["SeriesRequest"], signal: AbortSignal) =>
    unwrap(client.POST("/api/screen/series", { body, signal })),
  screens: () => unwrap(client.GET("/api/screens")),
  saveScreen: (body: ScreenDraft, id: number | null) =>
    id === null
      ? unwrap(client.POST("/api/screens", { body, ...keyed(body) }))
      : unwrap(client.PUT("/api/screens/{id}", { params: { path: { id } }, body, ...keyed(body) })),
  deleteScreen: ({ id, version }: Removed) =>
    unwrap(client.DELETE("/api/screens/{id}", { params: { path: { id }, query: { version } } })),
  restoreScreen: (id: number) => unwrap(client.POST("/api/screens/{id}/restore", { params: { path: { id } } })),
  look: (id: number, body: Schemas["LookRequest"]) =>
    unwrap(client.POST("/api/screens/{id}/look", { params: { path: { id } }, body })),
  played: (query: AsOfRequest, signal: AbortSignal) => unwrap(client.GET("/api/played", { params: { query }, signal })),
  peek: (symbol: string, asOf: string | null, signal: AbortSignal) =>
    unwrap(
      client.GET("/api/peek/{symbol}", {
        params: { path: { symbol }, query: asOf === null ? {} : { as_of: asOf } },
        signal,
      }),
    ),
  dossier: (symbol: string, query: DossierRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/{symbol}", { params: { path: { symbol }, query }, signal })),
  overTime: (symbol: string, query: OverTimeRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/over-time/{symbol}", { params: { path: { symbol }, query }, signal })),
  volatility: (symbol: string, query: DossierRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/volatility/{symbol}", { params: { path: { symbol }, query }, signal })),
  moves: (symbol: string, query: AsOfRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/expected-move/{symbol}", { params: { path: { symbol }, query }, signal })),
  positioning: (symbol: string, query: PositioningRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/positioning/{symbol}", { params: { path: { symbol }, query }, signal })),
  namePrints: (symbol: string, query: PrintsQuery, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/prints/{symbol}", { params: { path: { symbol }, query }, signal })),
  facts: (symbol: string, query: AsOfRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/facts/{symbol}", { params: { path: { symbol }, query }, signal })),
  price: (symbol: string, query: PriceRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/price/{symbol}", { params: { path: { symbol }, query }, signal })),
  lines: (symbol: string, query: LinesRequest, signal?: AbortSignal) =>
    unwrap(client.GET("/api/lines/of/{symbol}", { params: { path: { symbol }, query }, signal })),
  saveLine: (body: Schemas["LineDraft"], id: number | null) =>
    id === null
      ? unwrap(client.POST("/api/lines", { body, ...keyed(body) }))
      : unwrap(client.PUT("/api/lines/{id}", { params: { path: { id } }, body, ...keyed(body) })),
  deleteLine: ({ id, version }: Removed) =>
    unwrap(client.DELETE("/api/lines/{id}", { params: { path: { id }, query: { version } } })),
  restoreLine: (id: number) => unwrap(client.POST("/api/lines/{id}/restore", { params: { path: { id } } })),
  tape: (symbol: string, query: TapeRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/tape/{symbol}", { params: { path: { symbol }, query }, signal })),
  shelfRecord: (body: Schemas["StackAsked"], signal: AbortSignal) =>
    unwrap(client.POST("/api/off-exchange/record", { body, signal })),
  prints: (body: Schemas["PrintsRequest"], signal: AbortSignal) =>
    unwrap(client.POST("/api/off-exchange", { body, signal })),
  tickets: (body: Schemas["TapeRequest"], signal: AbortSignal) => unwrap(client.POST("/api/tape", { body, signal })),
  nameTickets: (body: Schemas["NameAsked"], signal: AbortSignal) =>
    unwrap(client.POST("/api/tape/name", { body, signal })),
  structureKinds: () => unwrap(client.GET("/api/structures/kinds")),
  structures: (body: Schemas["StructuresRequest"], signal: AbortSignal) =>
    unwrap(client.POST("/api/structures", { body, signal })),
  structure: (body: Schemas["OneAsked"], signal: AbortSignal) =>
    unwrap(client.POST("/api/structures/one", { body, signal })),
  opinionRecord: (query: AsOfRequest & { symbol?: string }, signal: AbortSignal) =>
    unwrap(client.GET("/api/structures/record", { params: { query }, signal })),
  together: (body: Schemas["TogetherAsked"], signal: AbortSignal) =>
    unwrap(client.POST("/api/structures/together", { body, signal })),
  plans: (query: AsOfRequest, signal?: AbortSignal) =>
    unwrap(client.GET("/api/structures/plans", { params: { query }, signal })),
  savePlan: (body: Schemas["PlanDraft"], id: number | null) =>
    id === null
      ? unwrap(client.POST("/api/structures/plans", { body, ...keyed(body) }))
      : unwrap(client.PUT("/api/structures/plans/{id}", { params: { path: { id } }, body, ...keyed(body) })),
  dropPlan: ({ id, version }: Removed) =>
    unwrap(client.DELETE("/api/structures/plans/{id}", { params: { path: { id }, query: { version } } })),
  restorePlan: (id: number) => unwrap(client.POST("/api/structures/plans/{id}/restore", { params: { path: { id } } })),
  tripwires: (signal?: AbortSignal) => unwrap(client.GET("/api/tripwires", { signal })),
  saveTripwire: (body: Schemas["TripwireDraft"], id: number | null) =>
    id === null
      ? unwrap(client.POST("/api/tripwires", { body, ...keyed(body) }))
      : unwrap(client.PUT("/api/tripwires/{id}", { params: { path: { id } }, body, ...keyed(body) })),
  armTripwire: ({ id, armed }: { id: number; armed: boolean }) =>
    unwrap(client.POST("/api/tripwires/{id}/arm", { params: { path: { id } }, body: { armed } })),
  dropTripwire: ({ id, version }: Removed) =>
    unwrap(client.DELETE("/api/tripwires/{id}", { params: { path: { id }, query: { version } } })),
  restoreTripwire: (id: number) => unwrap(client.POST("/api/tripwires/{id}/restore", { params: { path: { id } } })),
  tripsOf: (id: number | null, count: number, signal: AbortSignal) =>
    id === null
      ? unwrap(client.GET("/api/tripwires/trips", { params: { query: { count } }, signal }))
      : unwrap(client.GET("/api/tripwires/{id}/trips", { params: { path: { id }, query: { count } }, signal })),
  unseenTrips: (signal: AbortSignal) =>
    unwrap(client.GET("/api/tripwires/trips", { params: { query: { unseen: true } }, signal })),
  seeTrips: (ids: number[]) => unwrap(client.POST("/api/tripwires/trips/seen", { body: { ids } })),
  tripwireBefore: (body: Schemas["BeforeAsked"], signal: AbortSignal) =>
    unwrap(client.POST("/api/tripwires/before", { body, signal })),
  fills: (symbol: string, query: FillsRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/tape/fills/{symbol}", { params: { path: { symbol }, query }, signal })),
  chain: (symbol: string, expiration: string | null, at: AsOfRequest, signal: AbortSignal) =>
    unwrap(
      client.GET("/api/dossier/chain/{symbol}", {
        params: { path: { symbol }, query: expiration === null ? at : { ...at, expiration } },
        signal,
      }),
    ),
  askEvidence: (body: Schemas["EvidenceRequest"], signal: AbortSignal) =>
    unwrap(client.POST("/api/screen/evidence", { body, signal })),
  evidence: (id: number, signal: AbortSignal) =>
    unwrap(client.GET("/api/screen/evidence/{id}", { params: { path: { id } }, signal })),
  cancelJob: (id: number) => unwrap(client.DELETE("/api/jobs/{id}", { params: { path: { id } } })),
  lineup: (body: Schemas["LineupRequest"], signal: AbortSignal) => unwrap(client.POST("/api/lineup", { body, signal })),
  correlations: (body: Schemas["CorrelationRequest"], signal: AbortSignal) =>
    unwrap(client.POST("/api/lineup/correlation", { body, signal })),
  baskets: () => unwrap(client.GET("/api/baskets")),
  source: (source: string, signal: AbortSignal) =>
    unwrap(client.GET("/api/baskets/source", { params: { query: { source } }, signal })),
  readPasted: (text: string, signal: AbortSignal) =>
    unwrap(client.POST("/api/baskets/read", { body: { text }, signal })),
  saveBasket: (body: Schemas["BasketDraft"], id: number | null) =>
    id === null
      ? unwrap(client.POST("/api/baskets", { body, ...keyed(body) }))
      : unwrap(client.PUT("/api/baskets/{id}", { params: { path: { id } }, body, ...keyed(body) })),
  deleteBasket: ({ id, version }: Removed) =>
    unwrap(client.DELETE("/api/baskets/{id}", { params: { path: { id }, query: { version } } })),
  restoreBasket: (id: number) => unwrap(client.POST("/api/baskets/{id}/restore", { params: { path: { id } } })),
  tray: () => unwrap(client.GET("/api/tray")),
  addToTray: (change: object, symbols: string[], why: Why) =>
    unwrap(client.POST("/api/tray", { body: { symbols, why }, ...keyed(change) })),
  changeTray: (body: Schemas["TrayChange"]) => unwrap(client.PUT("/api/tray", { body, ...keyed(body) })),
  removeFromTray: (symbol: string) => unwrap(client.DELETE("/api/tray/{symbol}", { params: { path: { symbol } } })),
  clearTray: (change: object, version: number) =>
    unwrap(client.DELETE("/api/tray", { params: { query: { version } }, ...keyed(change) })),
  undoTray: (change: object, version: number) =>
    unwrap(client.POST("/api/tray/undo", { params: { query: { version } }, ...keyed(change) })),
};

/** Where the calendar of a source's dates is, which other programs can ask again. */
export const calendarAddress = (source: string, market: string) =>
  `/api/baskets/calendar?source=${encodeURIComponent(source)}&market=${encodeURIComponent(market)}`;

/** How far a file is that is still being written, and what stops it. */
export type Writing = { percent: number; stop: () => void };

/** An answer, half a second after it was asked for at the earliest. */
export async function unhurried<T>(answer: Promise<T>): Promise<T> {
  const [there] = await Promise.all([answer, new Promise((done) => setTimeout(done, 500))]);
  return there;
}

/** Fetch a file and hand it to the browser's downloads under the name the server gives it; `tell` hears of one that takes a while. */
export async function download(address: string, body?: unknown, tell?: (writing: Writing) => void): Promise<void> {
  const stopped = new AbortController();
  const { signal } = stopped;
  let answer = await fetched(
    body === undefined
      ? fetch(inMarket(address), { signal })
      : fetch(inMarket(address), {
          method: "POST",
          headers: { "Content-Type": "application/json" },
          body: JSON.stringify(body),
          signal,
        }),
  );
  while (answer.status === 202) {
    const { id, percent }: Schemas["FileUnderWay"] = await answer.json();
    tell?.({
      percent,
      stop: () => {
        stopped.abort();
        void client.DELETE("/api/files/{id}", { params: { path: { id } } });
      },
    });
    answer = await unhurried(fetched(fetch(inMarket(`/api/files/${id}`), { signal })));
  }
  const blob = await answer.blob();
  const header = answer.headers.get("Content-Disposition") ?? "";
  const encoded = /filename\*=UTF-8''([^;]+)/.exec(header)?.[1];
  const plain = /filename="([^"]+)"/.exec(header)?.[1];
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = encoded ? decodeURIComponent(encoded) : (plain ?? "flinch");
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

const fetched = (request: Promise<Response>) =>
  unwrap(
    request.then(async (response) =>
      response.ok ? { data: response, response } : { error: await response.json(), response },
    ),
  );
