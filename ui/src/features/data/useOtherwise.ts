import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, unhurried } from "@/shared/api/client";

type Told = { stage: string; percent: number; onStop: () => void };

/** Which screens would answer otherwise with another source of a kind; `told` says how far that is. */
export function useOtherwise(kind: string, source: string) {
  const [told, setTold] = useState<Told | null>(null);
  const work = useMutation({
    retry: false,
    mutationFn: async () => {
      let job = await api.askOtherwise(kind, source);
      while (!job.over) {
        const { id } = job;
        setTold({
          stage: job.stage,
          percent: job.percent,
          onStop: () => void api.cancelJob(id).catch(() => undefined),
        });
        job = await unhurried(api.otherwise(id));
      }
      return job.told;
    },
    onSettled: () => setTold(null),
  });
  return { ...work, told };
}
