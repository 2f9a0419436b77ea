import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { api, type Schemas } from "./client";
import { useKeep, useMarket, useOfVersion, useSave } from "./queries";
import { isTold } from "./told";

export type Tripwire = Schemas["TripwireInfo"];
export type Trip = Schemas["TripRow"];
export type TripwireDraft = Schemas["TripwireDraft"];

/** Everything that a trip, or a change of a tripwire, makes old. */
export const TRIPS_AGAIN = ["tripwires", "trips", "trips-unseen"];

export const useTripwires = () =>
  useOfVersion({ queryKey: ["tripwires"], queryFn: ({ signal }) => api.tripwires(signal) });

/** What one has told, or all; the newest first. */
export const useTrips = (id: number | null, count: number) =>
  useOfVersion({
    queryKey: ["trips", id, count],
    queryFn: ({ signal }) => api.tripsOf(id, count, signal),
    placeholderData: keepPreviousData,
  });

/** Those that nobody has looked at: asked again when something trips, and for how far price has gone while there are some. */
export function useUnseenTrips() {
  const version = useMarket().data?.version;
  const answer = useQuery({
    queryKey: ["trips-unseen"],
    queryFn: ({ signal }) => api.unseenTrips(signal),
    enabled: version !== undefined,
    refetchInterval: () => (isTold() ? false : 15_000),
  });
  const { refetch } = answer;
  const some = (answer.data?.trips.length ?? 0) > 0;
  const asked = useRef(version);
  useEffect(() => {
    if (some && asked.current !== version) void refetch();
    asked.current = version;
  }, [version, some, refetch]);
  return answer;
}

/** How often a tripwire would have tripped; null: there is nothing to ask yet. */
export const useTripwireBefore = (asked: Schemas["BeforeAsked"] | null) =>
  useOfVersion({
    queryKey: ["tripwire-before", asked],
    queryFn: ({ signal }) => api.tripwireBefore(asked as Schemas["BeforeAsked"], signal),
    enabled: asked !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });

export const useSaveTripwire = () =>
  useSave(TRIPS_AGAIN, api.saveTripwire, {
    name: (draft) => `The tripwire ${draft.name}`,
    lines: (draft) => [draft.name, draft.rule.text || (draft.rule.screen ?? ""), draft.note ?? ""],
    now: async (id) => {
      const found = (await api.tripwires()).tripwires.find((one) => one.id === id);
      return found && { ...found, keep: false, armed: found.armed_at !== null };
    },
  });

export const useArmTripwire = () => useKeep(TRIPS_AGAIN, api.armTripwire);
export const useDropTripwire = () => useKeep(TRIPS_AGAIN, api.dropTripwire);
export const useRestoreTripwire = () => useKeep(TRIPS_AGAIN, api.restoreTripwire);
export const useSeeTrips = () => useKeep(TRIPS_AGAIN, api.seeTrips);
