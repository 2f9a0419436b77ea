import type { AsOfRequest } from "@/shared/api/client";

export type Write = (changes: Record<string, string | null>) => void;

/** What a part of the Dossier is given: whose, as of when, and the address that it reads and writes. */
export type PartProps = { symbol: string; at: AsOfRequest; params: URLSearchParams; onWrite: Write };
