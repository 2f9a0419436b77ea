import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type Schemas } from "@/shared/api/client";
import { follow, type Told } from "./follow";

type Job = Schemas["ImportJob"];
export type WorkAsked =
  | { file: number; load: boolean; how: Schemas["ImportHow"] }
  | { undo: number }
  | { prefer: string; order: string[] }
  | { mend: string; at: Schemas["MendAsked"] }
  | { job: number };

/** What may be others when something was loaded. */
const CHANGED = ["imports", "kinds", "markets", "coverage", "checks", "sources"];

const begun = (asked: WorkAsked): Promise<Job> => {
  if ("prefer" in asked) return api.prefer(asked.prefer, asked.order);
  if ("mend" in asked) return api.mend(asked.mend, asked.at);
  if ("undo" in asked) return api.undoImport(asked.undo);
  if ("job" in asked) return api.importJob(asked.job);
  return asked.load ? api.loadFile(asked.file, asked.how) : api.checkFile(asked.file, asked.how);
};

/** Work beside requests that is asked for and followed to its end; `told` says how far it is. */
export function useWork() {
  const client = useQueryClient();
  const [told, setTold] = useState<Told | null>(null);
  const work = useMutation({
    mutationKey: ["work"],
    retry: false,
    mutationFn: async (asked: WorkAsked) => (await follow(await begun(asked), api.importJob, setTold)).counts,
    onSettled: async () => {
      setTold(null);
      // Of a market that is empty still there is no answer to wait for.
      void client.invalidateQueries({ queryKey: ["market"] });
      await Promise.all(CHANGED.map((key) => client.invalidateQueries({ queryKey: [key] })));
    },
  });
  return { ...work, told };
}

/** Follows the last work on a file, when the page was left meanwhile. */
export function useWorkOf(job: number | null, loaded: boolean) {
  const work = useWork();
  const { mutate } = work;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, of what was there when the page was opened
  useEffect(() => {
    if (job !== null && !loaded) mutate({ job });
  }, []);
  return work;
}
