import createClient from "openapi-fetch";
import type { components, operations, paths } from "./schema";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

const client = createClient<paths>({ baseUrl: "" });

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
  throw new ApiError(answer.response.status, { type: "error", where: null, nearest: [], ...said, message });
}

export type ScreenRequest = { universe: "all" | "stock" | "fund"; rule: string[] };
export type DossierRequest = NonNullable<operations["dossier_read_dossier__path_symbol__get"]["parameters"]["query"]>;
export type Why = Schemas["Why"];
export type ScreenReply = Schemas["ScreenReply"];
export type Dossier = Schemas["Dossier"];
export type Metric = Schemas["MetricEntry"];

export const api = {
  market: () => unwrap(client.GET("/api/market")),
  names: () => unwrap(client.GET("/api/names")),
  metrics: () => unwrap(client.GET("/api/handbook")),
  screen: (query: ScreenRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/screen", { params: { query }, signal })),
  peek: (symbol: string, signal: AbortSignal) =>
    unwrap(client.GET("/api/peek/{symbol}", { params: { path: { symbol } }, signal })),
  dossier: (symbol: string, query: DossierRequest, signal: AbortSignal) =>
    unwrap(client.GET("/api/dossier/{symbol}", { params: { path: { symbol }, query }, signal })),
  tray: () => unwrap(client.GET("/api/tray")),
  addToTray: (symbols: string[], why: Why) => unwrap(client.POST("/api/tray", { body: { symbols, why } })),
  removeFromTray: (symbol: string) => unwrap(client.DELETE("/api/tray/{symbol}", { params: { path: { symbol } } })),
  clearTray: () => unwrap(client.DELETE("/api/tray")),
  undoTray: () => unwrap(client.POST("/api/tray/undo")),
};
