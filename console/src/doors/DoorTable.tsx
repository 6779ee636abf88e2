import { Fragment, useState } from "react";
import { Neighbours } from "./Neighbours";
import { Admits, ChangeLink, Otherwise, TryLink, Where } from "./words";
import type { Door } from "../schema";
import { row, Table } from "../parts/table";

const step = 300;

// Doors of the file can be opened for how they lie to each other, and changed here; what is built in, and checks, cannot.
export function DoorTable({ doors, kind = "door" }: { doors: Door[]; kind?: "door" | "check" | "builtIn" }) {
  const [limit, setLimit] = useState(step);
  const [open, setOpen] = useState<number>();
  const heads = { door: [{ label: "Line", className: "w-16 text-right" }], check: ["Check"], builtIn: [] }[kind];
  return (
    <>
      <Table
        heads={[
          ...heads,
          "Path",
          "Methods",
          "Admits",
          ...(kind === "check" ? [] : ["Otherwise"]),
          { label: <span className="sr-only">Try</span>, className: "w-32" },
        ]}
      >
        {doors.slice(0, limit).map((d) => (
          <Fragment key={d.id}>
            <tr className={row}>
              {kind === "check" && (
                <td className="py-2 pr-6">
                  <code>{d.check}</code> <span className="text-sm text-soft">line {d.line}</span>
                </td>
              )}
              {kind === "door" && (
                <td className="py-2 pr-6 text-right text-soft">
                  <button
                    type="button"
                    aria-expanded={open === d.id}
                    aria-label={`Line ${d.line}: how ${d.path} lies to other doors`}
                    className="cursor-pointer whitespace-nowrap hover:text-ink"
                    onClick={() => setOpen(open === d.id ? undefined : d.id)}
                  >
                    <span aria-hidden="true">{open === d.id ? "▾" : "▸"}</span> {d.line}
                  </button>
                </td>
              )}
              <td className="py-2 pr-6">
                <Where door={d} />
              </td>
              <td className="py-2 pr-6">{d.methods.length ? d.methods.join(", ") : <span className="text-soft">any</span>}</td>
              <td className="py-2 pr-6">
                <Admits door={d} />
              </td>
              {kind !== "check" && (
                <td className="py-2 pr-6 text-sm">
                  <Otherwise door={d} />
                </td>
              )}
              <td className="py-2 text-right">
                <span className="flex justify-end gap-3">
                  <ChangeLink door={d} />
                  <TryLink door={d} />
                </span>
              </td>
            </tr>
            {kind === "door" && open === d.id && (
              <tr className="border-b border-line">
                <td />
                <td colSpan={5} className="py-3 pr-6">
                  <Neighbours door={d} />
                </td>
              </tr>
            )}
          </Fragment>
        ))}
      </Table>
      {doors.length > limit && (
        <button type="button" className="mt-3 cursor-pointer underline" onClick={() => setLimit(limit + step)}>
          Show {Math.min(step, doors.length - limit)} more of {doors.length - limit}
        </button>
      )}
    </>
  );
}
