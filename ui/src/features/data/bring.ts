import { ApiError, api, type Schemas } from "@/shared/api/client";

/** Bytes that go together: less than a request may hold. */
const PART = 960 * 1024;
const MOST = 60;
const WAIT_MS = 1000;
const TRIES = 30;

/** Bring a file, part by part; `tell` hears how much of it is there. A server that is away meanwhile is waited for. */
export async function bring(file: File, tell: (share: number) => void): Promise<Schemas["UploadRow"]> {
  let row = await patiently(() => api.bringFile({ name: file.name, size: file.size }));
  while (row.here < row.size) {
    const at = row.here;
    row = await patiently(() => api.bringPart(row.id, at, file.slice(at, at + PART)));
    tell(row.here / row.size);
  }
  return row;
}

async function patiently<T>(ask: () => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries += 1) {
    try {
      return await ask();
    } catch (error) {
      if (!(error instanceof ApiError && error.passing) || tries === TRIES) throw error;
      await new Promise((done) => setTimeout(done, WAIT_MS));
    }
  }
}

/** The files that were dropped, those within folders too; as many as may be here at once. */
export async function filesOf(transfer: DataTransfer): Promise<File[]> {
  // All are asked for at once: what was dropped is gone after a pause.
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  const found: File[] = [];
  for (const entry of entries) await collect(entry, found);
  return found;
}

async function collect(entry: FileSystemEntry, found: File[]): Promise<void> {
  if (found.length >= MOST || entry.name.startsWith(".")) return;
  if (entry.isFile) {
    found.push(await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail)));
    return;
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail));
    if (some.length === 0) return;
    for (const one of some) await collect(one, found);
  }
}
