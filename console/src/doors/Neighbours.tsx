import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { getRelations } from "./queries";
import { Where } from "./words";
import { Broken } from "../parts/states";
import type { Door } from "../schema";

// Why this door decides and not another: how it lies to the others.
export function Neighbours({ door }: { door: Door }) {
  const found = useQuery({ queryKey: key("relations", door.id, door.path, door.line), queryFn: () => getRelations(door.id) });
  if (found.isPending) return <p className="text-soft">Comparing with the other doors …</p>;
  if (found.error) return <Broken what="other doors" error={found.error} retry={() => found.refetch()} />;
  const { wider, narrower, crossing } = found.data;
  const group = (title: string, why: string, doors: { door: Door; example?: string }[]) =>
    doors.length > 0 && (
      <section className="max-w-4xl">
        <h3 className="font-bold">
          {title} <span className="font-normal text-soft">{why}</span>
        </h3>
        <ul>
          {doors.slice(0, 12).map(({ door: d, example }) => (
            <li key={d.id}>
              <span className="inline-block w-16 text-soft">line {d.line}</span> <Where door={d} />{" "}
              {d.methods.length > 0 && <span className="text-sm">{d.methods.join(", ")} </span>}
              <span className="text-soft">admits</span> <code>{d.admit}</code>
              {example && (
                <span className="text-soft">
                  , both cover <code>{example}</code>
                </span>
              )}
            </li>
          ))}
          {doors.length > 12 && <li className="text-soft">and {doors.length - 12} more</li>}
        </ul>
      </section>
    );
  return (
    <div className="flex flex-col gap-3">
      <p className="max-w-3xl">{door.sentence.map((p) => p.text).join("")}</p>
      {wider.length + narrower.length + crossing.length === 0 && (
        <p className="text-soft">It doesn't overlap with another door: it alone decides for all places it covers.</p>
      )}
      {group(
        "Takes precedence over",
        "they cover everything this door covers",
        wider.map((d) => ({ door: d })),
      )}
      {group(
        "Gives way to",
        "they cover part of this door",
        narrower.map((d) => ({ door: d })),
      )}
      {group("Overlaps with", "where both cover a place, both must allow the request", crossing)}
    </div>
  );
}
