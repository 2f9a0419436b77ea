import { keepPreviousData, QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ApiError, api, type DossierRequest, type ScreenRequest, type Why } from "./client";

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

export const useMarket = () => useQuery({ queryKey: ["market"], queryFn: api.market, refetchInterval: 15_000 });
export const useNames = () =>
  useQuery({ queryKey: ["names"], queryFn: api.names, staleTime: Number.POSITIVE_INFINITY });

export function useMetrics() {
  const query = useQuery({ queryKey: ["metrics"], queryFn: api.metrics, staleTime: Number.POSITIVE_INFINITY });
  return query.data?.metrics ?? [];
}

export function useScreen(request: ScreenRequest) {
  const version = useMarket().data?.version;
  return useQuery({
    queryKey: ["screen", version, request],
    queryFn: ({ signal }) => api.screen(request, signal),
    placeholderData: keepPreviousData,
    enabled: request.rule.length > 0,
    // A drag leaves one answer a pixel behind.
    gcTime: 5_000,
  });
}

export const usePeek = (symbol: string | null) => {
  const version = useMarket().data?.version;
  return useQuery({
    queryKey: ["peek", version, symbol],
    queryFn: ({ signal }) => api.peek(symbol ?? "", signal),
    enabled: symbol !== null,
    placeholderData: keepPreviousData,
  });
};

export const useDossier = (symbol: string, request: DossierRequest) => {
  const version = useMarket().data?.version;
  return useQuery({
    queryKey: ["dossier", version, symbol, request],
    queryFn: ({ signal }) => api.dossier(symbol, request, signal),
    placeholderData: (previous) => (previous?.symbol === symbol ? previous : undefined),
  });
};

export const useTray = () => useQuery({ queryKey: ["tray"], queryFn: api.tray });

type TrayChange =
  | { kind: "add"; symbols: string[]; why: Why }
  | { kind: "remove"; symbol: string }
  | { kind: "clear" }
  | { kind: "undo" };

const send = (change: TrayChange) => {
  switch (change.kind) {
    case "add":
      return api.addToTray(change.symbols, change.why);
    case "remove":
      return api.removeFromTray(change.symbol);
    case "clear":
      return api.clearTray();
    case "undo":
      return api.undoTray();
  }
};

/** One change after the other, so that what is shown last is what the server has. */
export function useChangeTray() {
  const client = useQueryClient();
  return useMutation({
    mutationKey: ["tray"],
    mutationFn: send,
    scope: { id: "tray" },
    onSuccess: (tray) => client.setQueryData(["tray"], tray),
  });
}

/** Put a name in the tray, or take it out when it is there. */
export function useToggleTray() {
  const tray = useTray();
  const change = useChangeTray();
  const has = (symbol: string) => tray.data?.items.some((item) => item.symbol === symbol) ?? false;
  const toggle = (symbol: string, why: Why) =>
    change.mutate(has(symbol) ? { kind: "remove", symbol } : { kind: "add", symbols: [symbol], why });
  return { has, toggle };
}
