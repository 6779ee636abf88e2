import type { Person } from "../schema";

export function PersonState({ person: p }: { person: Person }) {
  if (p.disabled) return <span className="font-bold text-bad">disabled</span>;
  if (p.noPassword) return <span className="text-ask">no password yet</span>;
  return <span className="text-good">enabled</span>;
}
