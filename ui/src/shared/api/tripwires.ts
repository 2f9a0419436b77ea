import { keepPreviousData } from "@tanstack/react-query";
import { api, type Schemas } from "./client";
import { useKeep, useOfVersion, useSave } from "./queries";

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

export const useUnseenTrips = () =>
  useOfVersion({ queryKey: ["trips-unseen"], queryFn: ({ signal }) => api.unseenTrips(signal) });

/** How often a tripwire would have tripped; null: there is nothing to ask yet. */
export const useTripwireBefore = (asked: Schemas["BeforeAsked"] | null) =>
  useOfVersion({
    queryKey: ["tripwire-before", asked],
    queryFn: ({ signal }) => api.tripwireBefore(asked as Schemas["BeforeAsked"], signal),
    enabled: asked !== null,
    of: "sessions",
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
