import type { ReactNode } from "react";
import type { Metric, Schemas } from "@/shared/api/client";
import { DASH, metricText } from "@/shared/format";
import type { Column } from "@/shared/ui/WalkTable";
import { Opinions } from "./Opinions";

export type Row = Schemas["StructureLine"] & { place: number };
type Told = Schemas["StructureColumn"];

/** What a structure is, its three opinions, and the columns that were asked for. */
export function structureColumns(
  symbol: (row: Row) => ReactNode,
  told: Told[],
  metrics: Map<string, Metric>,
): Column<Row>[] {
  return [
    {
      id: "symbol",
      label: "Name",
      title: "The name",
      sorts: true,
      text: true,
      cell: symbol,
    },
    {
      id: "structure",
      label: "Structure",
      title: "Its kind and legs: + bought, − sold; Enter opens it",
      sorts: true,
      text: true,
      cell: (row) => (
        <span className="structure-words">
          {row.on_front && (
            <span className="on-front" title="On the front: no other beats it on all its axes">
              ◆
            </span>
          )}
          <b>{row.label}</b> {row.words}
        </span>
      ),
    },
    {
      id: "opinions",
      label: "Chance of profit",
      title:
        "0 to 100 %: hollow what options price, solid what the name's own past would have done, a stroke the forecast",
      cell: (row) => <Opinions chances={row.chances} />,
    },
    ...told.map((column): Column<Row> => {
      const definition = metrics.get(column.key)?.definition;
      return {
        id: column.key,
        label: column.short,
        title: column.error ?? (definition ? `${column.label}: ${definition}` : column.label),
        unit: column.unit,
        metric: metrics.has(column.key) ? column.key : undefined,
        sorts: true,
        text: column.kind === "text",
        cell: (row) => cell(column, row.place),
      };
    }),
    {
      id: "flags",
      label: "Facts",
      title: "What to look at before it is traded",
      text: true,
      cell: (row) => <span className="muted">{row.flags.join(", ")}</span>,
    },
  ];
}

function cell(column: Told, place: number): string {
  if (column.texts.length > 0) return column.texts[place] || DASH;
  const value = column.numbers[place];
  if (column.kind === "condition") return value === 1 ? "yes" : value === 0 ? "no" : DASH;
  return metricText(column.unit, column.decimals, value);
}
