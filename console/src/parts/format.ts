// How times are told.

export const when = (at: string) => new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });

export function ago(at: string): string {
  const minutes = Math.floor((Date.now() - new Date(at).getTime()) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 120) return `${minutes} min ago`;
  if (minutes < 48 * 60) return `${Math.floor(minutes / 60)} h ago`;
  return `${Math.floor(minutes / 60 / 24)} days ago`;
}

/** Until when something counts: the last day that does, if it ends with a day here, and otherwise the minute. */
export function ends(at: string): string {
  const end = new Date(at);
  if (end.getHours() + end.getMinutes() + end.getSeconds() + end.getMilliseconds() > 0) return when(at);
  return day(new Date(end.getTime() - 1).toISOString());
}

/** A time as a field for date and time has it. */
export function typed(at: string): string {
  const t = new Date(at);
  return new Date(t.getTime() - t.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

export const day = (at: string) => new Date(at).toLocaleDateString(undefined, { dateStyle: "medium" });
