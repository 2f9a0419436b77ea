import { useMemo } from "react";
import { api, type Why } from "@/shared/api/client";
import { useBaskets, useMetricMap, useOfVersion, useScreens } from "@/shared/api/queries";
import { metricText } from "@/shared/format";
import { universeWords } from "@/shared/stack/Stack";
import { spokenOf } from "@/shared/stack/spoken";
import { fromBody, reasonFor } from "@/shared/stack/state";
import { NAMES } from "@/shared/stack/things";

/**
 * Why a name is among the structures of a screen: its rules and what the name's values are, as the tray keeps it. Undefined while
 * that is being read, null when it came from no screen.
 */
export function useScreenReason(symbol: string, from: string | null, asOf: string | null): Why | null | undefined {
  const key = from?.startsWith("screen:") ? from.slice("screen:".length) : null;
  const screens = useScreens(key !== null).data;
  const baskets = useBaskets(key !== null).data;
  const metrics = useMetricMap();
  const kept = [
    ...(screens?.starters.map(({ key, name, body }) => ({ key: `s-${key}`, name, body })) ?? []),
    ...(screens?.saved.map(({ id, name, body }) => ({ key: String(id), name, body })) ?? []),
  ].find((one) => one.key === key);
  const screen = kept && fromBody(kept.body);
  const spoken = screen && metrics.size > 0 ? spokenOf(screen.rules, metrics) : [];
  const request = {
    stack: { universe: `name:${symbol}`, rules: [], any_groups: [] },
    columns: spoken,
    sort: [],
    first: 0,
    count: 1,
    as_of: asOf,
  };
  const values = useOfVersion({
    queryKey: ["screen-rows", request],
    queryFn: ({ signal }) => api.screenRows(request, signal),
    enabled: spoken.length > 0,
  });
  return useMemo(() => {
    if (key === null || (screens && !kept)) return null;
    if (!screen || !baskets || (!values.data && !values.failureReason)) return undefined;
    const told = new Map(values.data?.columns.map((column) => [column.key, column.numbers[0] ?? null]));
    const why = reasonFor(screen, NAMES, kept.name, universeWords(screen.universe, baskets), `/screen?screen=${key}`);
    const words = [...told].map(([name, value]) => {
      const metric = metrics.get(name);
      return `${metric?.short ?? name} ${metricText(metric?.unit ?? "", metric?.decimals ?? 2, value)}`;
    });
    return {
      ...why,
      words: [why.words, words.join(", ")].filter(Boolean).join(" · ").slice(0, 600),
      values: Object.fromEntries(told),
    };
  }, [key, screens, kept, screen, baskets, values.data, values.failureReason, metrics]);
}
