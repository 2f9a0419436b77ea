import { ApiError, api, unhurried } from "@/shared/api/client";

type Job = { id: number; stage: string; percent: number; over: boolean };
export type Told = { stage: string; percent: number; onStop: () => void };

const AGAIN_MS = 2000;

/** Work beside requests, followed to its end; `tell` hears how far it is. While the server is away, it is as it was. */
export async function follow<T extends Job>(job: T, again: (id: number) => Promise<T>, tell: (told: Told) => void) {
  let now = job;
  while (!now.over) {
    const { id, stage, percent } = now;
    tell({ stage, percent, onStop: () => void api.cancelJob(id).catch(() => undefined) });
    try {
      now = await unhurried(again(id));
    } catch (error) {
      if (!(error instanceof ApiError && error.passing)) throw error;
      await new Promise((done) => setTimeout(done, AGAIN_MS));
    }
  }
  return now;
}
