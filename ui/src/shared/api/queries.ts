import {
  hashKey,
  keepPreviousData,
  QueryClient,
  type UseQueryOptions,
  type UseQueryResult,
  useMutation,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { askWhichIsKept } from "@/shared/conflict";
import { asking, useHold } from "@/shared/settled";
import { type Concern, changes } from "./changes";
import {
  ApiError,
  type AsOfRequest,
  api,
  type DossierRequest,
  type FillsRequest,
  type LinesRequest,
  type Metric,
  type OverTimeRequest,
  type PositioningRequest,
  type PriceRequest,
  type PrintsQuery,
  type RowsRequest,
  type Schemas,
  type ScreenDraft,
  type ScreenRequest,
  type TapeRequest,
  unhurried,
  type Why,
} from "./client";
import { isTold, useTold } from "./told";

const RETRY_MS = 2000;

/** Waiting helps when something is away; everything else is told at once. */
const retry = (_count: number, error: Error) => error instanceof ApiError && error.passing;

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: { retry, retryDelay: RETRY_MS, staleTime: 60_000, networkMode: "always" },
    // What the user asked for is kept and sent again until it can be done; doing it twice changes nothing.
    mutations: { retry, retryDelay: RETRY_MS, networkMode: "always" },
  },
});

export const useMarkets = () => useQuery({ queryKey: ["markets"], queryFn: api.markets });

export const useKinds = () => useQuery({ queryKey: ["kinds"], queryFn: api.kinds });

/** Which names have a kind of which sessions; while that of another kind is on its way, the last one is shown. */
export const useCoverage = (kind: string) =>
  useQuery({
    queryKey: ["coverage", kind],
    queryFn: ({ signal }) => api.coverage(kind, signal),
    placeholderData: keepPreviousData,
  });

export const useSources = () => useQuery({ queryKey: ["sources"], queryFn: ({ signal }) => api.sources(signal) });

export const useChecks = () => useQuery({ queryKey: ["checks"], queryFn: ({ signal }) => api.checks(signal) });

export const useImports = () => useQuery({ queryKey: ["imports"], queryFn: api.imports });

/** What an import changed, as it was before and as it is now. */
export const useImportChanges = (id: number) =>
  useQuery({ queryKey: ["imports", id, "changes"], queryFn: ({ signal }) => api.importChanges(id, signal) });

/** A first look at a file; while another one is on its way, the last one is shown. */
export const useFileLook = (id: number, how: Schemas["ImportHow"], enabled: boolean) =>
  useQuery({
    queryKey: ["file-look", id, how],
    queryFn: ({ signal }) => api.lookAtFile(id, how, signal),
    placeholderData: keepPreviousData,
    enabled,
  });

export const useMarket = () => {
  useTold();
  return useQuery({
    queryKey: ["market"],
    queryFn: api.market,
    // Who is told of moments asks for nothing else, but while the market is being filled, for how far that is.
    refetchInterval: (query) => (query.state.data?.coming ? 2_000 : isTold() ? false : 15_000),
  });
};

/** How the market runs; looked at while it does, because a source can fall behind or silent. */
export const useRun = () =>
  useQuery({
    queryKey: ["run"],
    queryFn: api.run,
    refetchInterval: ({ state: { data } }) => (data && (data.speed > 0 || data.until) ? 2_000 : false),
  });

/** What is known at a minute that is played again. */
export const usePlayed = (minute: string | null) =>
  useOfVersion({
    queryKey: ["played", minute],
    queryFn: ({ signal }) => api.played({ as_of: minute ?? "" }, signal),
    enabled: minute !== null,
  });

export const useLetRun = () => useKeep(["run"], api.letRun);

/**
 * What a version of the market tells, by a key that the version goes into: the one in which what it is `of` was changed last.
 * Nothing is asked before the version is known, which
 * would ask it twice; where it cannot be told all the same, so that the page says why.
 */
export function useOfVersion<Answer>({
  queryKey: [what, ...rest],
  enabled = true,
  of,
  ...options
}: Omit<UseQueryOptions<Answer>, "enabled"> & { queryKey: readonly unknown[]; enabled?: boolean; of?: Concern }) {
  const market = useMarket();
  const key = [what, changes.last(market.data?.version, of), ...rest];
  return useQuery({
    // While a later moment's answer is on its way that of the one before stays.
    placeholderData: (previous, query) => (query !== undefined && alike(query.queryKey, key) ? previous : undefined),
    ...options,
    queryKey: key,
    enabled: enabled && (market.data !== undefined || market.failureReason !== null),
  });
}

const PLAYED = /(?<="\d{4}-\d\d-\d\d)T\d\d:\d\d(?=")/g;

/** The same question of two versions, or of two minutes of a session that is played again. */
const alike = ([what, , ...rest]: readonly unknown[], [other, , ...others]: readonly unknown[]) =>
  hashKey([what, ...rest]).replace(PLAYED, "T") === hashKey([other, ...others]).replace(PLAYED, "T");

export const useNames = () =>
  useQuery({ queryKey: ["names"], queryFn: api.names, staleTime: Number.POSITIVE_INFINITY });

/** The catalogue with own metrics, and the functions of the rule language. */
export const useHandbook = (enabled = true) =>
  useQuery({ queryKey: ["handbook"], queryFn: api.handbook, staleTime: Number.POSITIVE_INFINITY, enabled });

const NO_METRICS: Metric[] = [];
export function useMetrics(): Metric[] {
  return useHandbook().data?.metrics ?? NO_METRICS;
}

/** What rules on tickets may use: their own metrics first, then those of their names. */
export function useTicketMetrics(): Metric[] {
  const handbook = useHandbook().data;
  return useMemo(() => (handbook ? [...handbook.tickets, ...handbook.metrics] : NO_METRICS), [handbook]);
}

/** What rules on structures may use: their own metrics first, then those of their names. */
export function useStructureMetrics(): Metric[] {
  const handbook = useHandbook().data;
  return useMemo(() => (handbook ? [...handbook.structures, ...handbook.metrics] : NO_METRICS), [handbook]);
}

/** Metrics by key. */
export function useMetricMap(): Map<string, Metric> {
  return useByKey(useMetrics());
}

export function useByKey(metrics: Metric[]): Map<string, Metric> {
  return useMemo(() => new Map(metrics.map((metric) => [metric.key, metric])), [metrics]);
}

/**
 * An answer with the request it answers: while the next one is on its way the last one is shown. A hand that moves asks once at a
 * time: what it asked last is sent when the answer before is there, so that a drag is drawn as fast as answers come.
 */
function useLatest<Request, Reply>(
  key: string,
  given: Request,
  ask: (request: Request, signal: AbortSignal) => Promise<Reply>,
  enabled = true,
) {
  // Requests are compared by what they say: one that is written anew with every drawing is the same one.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the text is the request
  const request = useMemo(() => given, [JSON.stringify(given)]);
  const [asked, setAsked] = useState(request);
  const answer = useOfVersion({
    queryKey: [key, asked],
    queryFn: async ({ signal }) => ({ request: asked, reply: await ask(asked, signal) }),
    placeholderData: keepPreviousData,
    // A drag leaves one answer a pixel behind.
    gcTime: 5_000,
    enabled,
  });
  const waiting = answer.isFetching && answer.failureCount === 0;
  useEffect(() => {
    if (!waiting) setAsked(request);
  }, [waiting, request]);
  useHold(asked !== request && answer.failureCount === 0);
  return { ...answer, isPlaceholderData: answer.isPlaceholderData || asked !== request };
}

/** A screen's answer; asked for when it is `ready` to be. */
export const useScreen = (request: ScreenRequest, ready: boolean) => useLatest("screen", request, api.screen, ready);

/** Tickets that a stack leaves. */
export const usePrints = (request: Schemas["PrintsRequest"]) => useLatest("prints", request, api.prints);
export const useShelfRecord = (request: Schemas["StackAsked"], enabled: boolean) => {
  return useOfVersion({
    queryKey: ["shelf-record", request],
    of: "sessions",
    queryFn: ({ signal }) => api.shelfRecord(request, signal),
    placeholderData: keepPreviousData,
    enabled,
  });
};
export const useTickets = (request: Schemas["TapeRequest"]) => useLatest("tickets", request, api.tickets);

/** Structures that a stack leaves. */
export const useStructures = (request: Schemas["StructuresRequest"]) =>
  useLatest("structures", request, api.structures);
/** One structure; while the next one is computed the last one is shown. */
export const useStructure = (request: Schemas["OneAsked"]) => useLatest("structure", request, api.structure);
export const useStructureKinds = () =>
  useQuery({ queryKey: ["structure-kinds"], queryFn: api.structureKinds, staleTime: Number.POSITIVE_INFINITY });

/** What the three opinions said in the past and what came, of all names and of one. */
export const useOpinionRecord = (symbol: string | null, asOf: string | null, enabled = true) => {
  return useOfVersion({
    queryKey: ["opinion-record", symbol, asOf],
    of: "sessions",
    queryFn: ({ signal }) => api.opinionRecord({ ...(symbol && { symbol }), ...(asOf && { as_of: asOf }) }, signal),
    enabled,
  });
};

/** What some structures would gain and lose together; while others are on their way, the last ones are shown. */
export const useTogether = (request: Schemas["TogetherAsked"]) => {
  return useOfVersion({
    queryKey: ["together", request],
    queryFn: ({ signal }) => api.together(request, signal),
    enabled: request.structures.length > 0,
    placeholderData: (previous) => previous,
  });
};

/** Plans with what they are worth. */
export const usePlans = (asOf: string | null, enabled = true) => {
  return useOfVersion({
    queryKey: ["plans", asOf],
    queryFn: ({ signal }) => api.plans(asOf ? { as_of: asOf } : {}, signal),
    enabled,
  });
};

export const useSavePlan = () =>
  useSave(["plans"], api.savePlan, {
    name: (draft) => `The plan on ${draft.symbol}`,
    lines: (draft) => [draft.legs, JSON.stringify(draft.exits ?? {}), draft.notes ?? ""],
    now: async (id) => {
      const found = (await api.plans({})).plans.find((plan) => plan.id === id);
      return found && { ...found };
    },
  });

/** One name's surviving tickets on its price; while those of another stack are on their way, the last ones are shown. */
export const useNameTickets = (request: Schemas["NameAsked"]) => {
  return useOfVersion({
    queryKey: ["name-tickets", request],
    queryFn: ({ signal }) => api.nameTickets(request, signal),
    placeholderData: (previous) => (previous?.symbol === request.symbol ? previous : undefined),
  });
};

export const useFills = (symbol: string, query: FillsRequest) => {
  return useOfVersion({
    queryKey: ["fills", symbol, query],
    queryFn: ({ signal }) => api.fills(symbol, query, signal),
  });
};

/** Pages of a screen's survivors besides the one that came with its answer. */
export function useScreenPages(request: RowsRequest, firsts: number[]) {
  const version = useMarket().data?.version;
  return useQueries({
    queries: firsts.map((first) => ({
      queryKey: ["screen-rows", version, request, first],
      queryFn: ({ signal }: { signal: AbortSignal }) => api.screenRows({ ...request, first }, signal),
      gcTime: 60_000,
    })),
    combine: seenPages,
  });
}

const seenPages = (answers: UseQueryResult<Schemas["RowsReply"]>[]) =>
  answers.flatMap((answer) => (answer.data ? [answer.data] : []));

export const useScreens = (enabled = true) => useQuery({ queryKey: ["screens"], queryFn: api.screens, enabled });
export const useBaskets = (enabled = true) => useQuery({ queryKey: ["baskets"], queryFn: api.baskets, enabled });

/** Save, remove or restore something that is kept, and read the lists it is in again. */
export function useKeep<Input, Output>(keys: string[], action: (input: Input) => Promise<Output>) {
  const client = useQueryClient();
  const readAgain = () => Promise.all(keys.map((key) => client.invalidateQueries({ queryKey: [key] })));
  // A refusal may say that it is another one by now: that one is read too.
  return useMutation({ mutationFn: action, onSuccess: readAgain, onError: readAgain });
}

type Versioned = { version?: number | null };

/**
 * Save a draft, under the version it was made on. When another window has changed it since, both versions are shown, and the user
 * says which is kept.
 */
export function useSave<Draft extends Versioned, Output>(
  keys: string[],
  action: (draft: Draft, id: number | null) => Promise<Output>,
  told: {
    name: (draft: Draft) => string;
    lines: (draft: Draft) => string[];
    now: (id: number) => Promise<Draft | undefined>;
  },
) {
  const client = useQueryClient();
  const readAgain = () => Promise.all(keys.map((key) => client.invalidateQueries({ queryKey: [key] })));
  return useMutation({
    mutationFn: async ({ draft, id }: { draft: Draft; id: number | null }) => {
      try {
        return await action(draft, id);
      } catch (error) {
        if (!(error instanceof ApiError && error.problem.type === "changed_elsewhere") || id === null) throw error;
        const theirs = await told.now(id);
        const name = told.name(draft);
        if (await asking(askWhichIsKept(name, told.lines(draft), theirs ? told.lines(theirs) : [])))
          return await action({ ...draft, version: error.problem.version }, id);
        await readAgain();
        throw new ApiError(error.status, {
          ...error.problem,
          message: `${name} stays as the other window kept it. Your change was not kept.`,
        });
      }
    },
    onSuccess: readAgain,
  });
}

const ruleLines = (screen: ScreenDraft) => [
  screen.name,
  ...(screen.body.rules ?? []).map((rule) => (rule.on === false ? `${rule.text} (off)` : rule.text)),
];

export const useSaveScreen = () =>
  useSave(["screens"], api.saveScreen, {
    name: (draft) => `The screen “${draft.name}”`,
    lines: ruleLines,
    now: async (id) => (await api.screens()).saved.find((screen) => screen.id === id),
  });

export const useSaveBasket = (keys: string[]) =>
  useSave(keys, api.saveBasket, {
    name: (draft) => `The basket “${draft.name}”`,
    lines: (draft) => [draft.name, ...draft.symbols],
    now: async (id) => (await api.baskets()).own.find((basket) => basket.id === id),
  });

export const useSaveOwnMetric = (keys: string[]) =>
  useSave(keys, api.saveOwnMetric, {
    name: (draft) => `The metric ${draft.key}`,
    lines: (draft) => [draft.key, draft.label, draft.expression],
    now: async (id) => (await api.ownMetrics()).metrics.find((metric) => metric.id === id),
  });

export const usePeek = (symbol: string | null, asOf: string | null) => {
  return useOfVersion({
    queryKey: ["peek", symbol, asOf],
    queryFn: ({ signal }) => api.peek(symbol ?? "", asOf, signal),
    enabled: symbol !== null,
    placeholderData: keepPreviousData,
  });
};

export const useOverTime = (symbol: string, request: OverTimeRequest) => {
  return useOfVersion({
    queryKey: ["over-time", symbol, request],
    queryFn: ({ signal }) => api.overTime(symbol, request, signal),
    placeholderData: keepPreviousData,
    enabled: request.expression.trim() !== "",
  });
};

export const useDossier = (symbol: string, request: DossierRequest) => {
  return useOfVersion({
    queryKey: ["dossier", symbol, request],
    of: { name: symbol, kinds: ["chains"] },
    queryFn: ({ signal }) => api.dossier(symbol, request, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

export const useVolatility = (symbol: string, request: DossierRequest) => {
  return useOfVersion({
    queryKey: ["volatility", symbol, request],
    of: { name: symbol, kinds: ["chains"] },
    queryFn: ({ signal }) => api.volatility(symbol, request, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

export const useMoves = (symbol: string, at: AsOfRequest) => {
  return useOfVersion({
    queryKey: ["moves", symbol, at],
    of: { name: symbol, kinds: ["chains"] },
    queryFn: ({ signal }) => api.moves(symbol, at, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

/** While another choice of the same name's positioning is on its way, the last one is shown. */
export const usePositioning = (symbol: string, query: PositioningRequest) => {
  return useOfVersion({
    queryKey: ["positioning", symbol, query],
    of: { name: symbol, kinds: ["chains"] },
    queryFn: ({ signal }) => api.positioning(symbol, query, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

/** While another window of the same name's prints is on its way, the last one is shown. */
export const useNamePrints = (symbol: string, query: PrintsQuery) => {
  return useOfVersion({
    queryKey: ["name-prints", symbol, query],
    queryFn: ({ signal }) => api.namePrints(symbol, query, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

export const useFacts = (symbol: string, at: AsOfRequest) => {
  return useOfVersion({
    queryKey: ["facts", symbol, at],
    of: { name: symbol, kinds: [] },
    queryFn: ({ signal }) => api.facts(symbol, at, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

/** While other bars or layers of the same name are on their way, the last ones are shown. */
export const usePrice = (symbol: string, query: PriceRequest) => {
  return useOfVersion({
    queryKey: ["price", symbol, query],
    queryFn: ({ signal }) => api.price(symbol, query, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

const NO_LINES: Schemas["LineRow"][] = [];

/** One's own lines of a name, and the chance to touch them by a day. */
export const useLines = (symbol: string, query: LinesRequest) => {
  const answer = useOfVersion({
    queryKey: ["lines", symbol, query],
    of: { name: symbol, kinds: [] },
    queryFn: ({ signal }) => api.lines(symbol, query, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
  return { answer, lines: answer.data?.lines ?? NO_LINES };
};

/** What a change of a line makes old. */
export const LINES_AGAIN = [
  "lines",
  "screen",
  "screen-rows",
  "prints",
  "shelf-record",
  "tickets",
  "name-tickets",
  "lineup",
  "over-time",
  "price",
  "evidence",
];

export const useSaveLine = (symbol: string) =>
  useSave(LINES_AGAIN, api.saveLine, {
    name: (draft) => `The line at ${draft.price} on ${draft.symbol}`,
    lines: (draft) => [String(draft.price), draft.name ?? "", draft.note ?? ""],
    now: async (id) => (await api.lines(symbol, {})).lines.find((line) => line.id === id),
  });

/** While another session of the same name's trades is on its way, the last one is shown. */
export const useTape = (symbol: string, query: TapeRequest) => {
  return useOfVersion({
    queryKey: ["tape", symbol, query],
    queryFn: ({ signal }) => api.tape(symbol, query, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

export const useChain = (symbol: string, expiration: string | null, at: AsOfRequest) => {
  return useOfVersion({
    queryKey: ["chain", symbol, expiration, at],
    of: { name: symbol, kinds: ["chains"] },
    queryFn: ({ signal }) => api.chain(symbol, expiration, at, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

export type UnderWay = { id: number; percent: number; stage: string };

/** Evidence, which takes a while: `underWay` is how far it is. Who asks for something else, or leaves, stops it. */
export const useEvidence = (request: Schemas["EvidenceRequest"]) => {
  const [underWay, setUnderWay] = useState<UnderWay | null>(null);
  const answer = useOfVersion({
    queryKey: ["evidence", request],
    of: "sessions",
    // It says itself how far it is.
    meta: { apart: true },
    queryFn: async ({ signal }) => {
      let job = await api.askEvidence(request, signal);
      const stop = () => void api.cancelJob(job.id).catch(() => undefined);
      signal.addEventListener("abort", stop);
      try {
        while (job.evidence === null) {
          signal.throwIfAborted();
          setUnderWay(job);
          // Who is answered at once, because many wait, waits here.
          job = await unhurried(api.evidence(job.id, signal));
        }
        return job.evidence;
      } finally {
        signal.removeEventListener("abort", stop);
        setUnderWay(null);
      }
    },
  });
  return { ...answer, underWay };
};

export const useLineup = (request: Schemas["LineupRequest"]) => {
  return useOfVersion({
    queryKey: ["lineup", request],
    queryFn: ({ signal }) => api.lineup(request, signal),
    placeholderData: keepPreviousData,
  });
};

export const useCorrelations = (request: Schemas["CorrelationRequest"]) => {
  return useOfVersion({
    queryKey: ["correlations", request],
    queryFn: ({ signal }) => api.correlations(request, signal),
    enabled: request.symbols.length > 1,
  });
};

export const useTray = () => useQuery({ queryKey: ["tray"], queryFn: api.tray });

type TrayChange =
  | { kind: "add"; symbols: string[]; why: Why }
  | { kind: "remove"; symbol: string }
  | { kind: "toggle"; symbol: string; why: Why }
  | { kind: "change"; change: Schemas["TrayChange"] }
  | { kind: "clear"; version: number }
  | { kind: "undo"; version: number };

const inTray = (tray: Schemas["TrayReply"] | undefined, symbol: string) =>
  tray?.items.some((item) => item.symbol === symbol) ?? false;

const send = (change: TrayChange) => {
  switch (change.kind) {
    case "add":
      return api.addToTray(change, change.symbols, change.why);
    case "remove":
      return api.removeFromTray(change.symbol);
    case "toggle":
      // What it finds when its turn comes, so that pressing twice is putting in and taking out however slow the server is.
      return inTray(queryClient.getQueryData(["tray"]), change.symbol)
        ? api.removeFromTray(change.symbol)
        : api.addToTray(change, [change.symbol], change.why);
    case "change":
      return api.changeTray(change.change);
    case "clear":
      return api.clearTray(change, change.version);
    case "undo":
      return api.undoTray(change, change.version);
  }
};

/** One change after the other, so that what is shown last is what the server has. */
export function useChangeTray() {
  const client = useQueryClient();
  return useMutation({
    mutationKey: ["tray"],
    mutationFn: send,
    scope: { id: "tray" },
    onSuccess: async (tray) => {
      // A reading under way may have begun before the change.
      await client.cancelQueries({ queryKey: ["tray"] });
      client.setQueryData(["tray"], tray);
    },
    // What another window made of it is shown beside the words that say so.
    onError: () => client.invalidateQueries({ queryKey: ["tray"] }),
  });
}

/** Put a name in the tray, or take it out when it is there. */
export function useToggleTray() {
  const tray = useTray();
  const change = useChangeTray();
  const has = (symbol: string) => inTray(tray.data, symbol);
  const toggle = (symbol: string, why: Why) => change.mutate({ kind: "toggle", symbol, why });
  return { has, toggle };
}
