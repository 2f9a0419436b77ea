import { inMarket } from "@/shared/market";

/** A plain link to a name: one that follows the router's state would be drawn again whenever the address changes. */
export function SymbolLink({ symbol, to, onOpen }: { symbol: string; to: string; onOpen: (symbol: string) => void }) {
  return (
    <a
      href={inMarket(to)}
      tabIndex={-1}
      onClick={(event) => {
        if (event.ctrlKey || event.metaKey || event.shiftKey) return;
        event.preventDefault();
        onOpen(symbol);
      }}
    >
      {symbol}
    </a>
  );
}
