import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "@/shared/api/client";
import { follow, type Told } from "./follow";

/** Which screens would answer otherwise with another source of a kind; `told` says how far that is. */
export function useOtherwise(kind: string, source: string) {
  const [told, setTold] = useState<Told | null>(null);
  const work = useMutation({
    retry: false,
    mutationFn: async () => (await follow(await api.askOtherwise(kind, source), api.otherwise, setTold)).told,
    onSettled: () => setTold(null),
  });
  return { ...work, told };
}
