/**
 * What a moment of the market changed, as the server told it: an answer that it does not concern is not asked again.
 */

/** A version, the one that it is told against, and the kinds and names that it says otherwise; null: whatever there is. */
export type Change = {
  version: number;
  before: number | null;
  kinds: readonly string[] | null;
  names: readonly string[] | null;
};

/** What an answer is of: sessions that are over alone, or one name, whose kinds here are told whoever they are of. */
export type Concern = "sessions" | { name: string; kinds: readonly string[] };

const MOST = 500;

export class Changes {
  private told = new Map<number, Change>();

  note(change: Change): void {
    this.told.set(change.version, change);
    if (this.told.size > MOST) this.told.delete(this.told.keys().next().value as number);
  }

  /** The version in which what a concern is of was changed last, as far as is known; without one every version changes it. */
  last(version: number | undefined, concern: Concern | undefined): number | undefined {
    let at = version;
    while (at !== undefined && concern !== undefined) {
      const change = this.told.get(at);
      // One that was missed may have changed anything.
      if (change === undefined || change.before === null || change.before >= at || concerns(change, concern)) break;
      at = change.before;
    }
    return at;
  }
}

function concerns({ kinds, names }: Change, concern: Concern): boolean {
  if (kinds === null || names === null) return true;
  if (concern === "sessions") return false;
  return names.includes(concern.name) || concern.kinds.some((kind) => kinds.includes(kind));
}

/** Of the market of this window. */
export const changes = new Changes();
