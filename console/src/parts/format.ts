// How times are told.

export const when = (at: string) => new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });

export function ago(at: string): string {
  const minutes = Math.floor((Date.now() - new Date(at).getTime()) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 120) return `${minutes} min ago`;
  if (minutes < 48 * 60) return `${Math.floor(minutes / 60)} h ago`;
  return `${Math.floor(minutes / 60 / 24)} days ago`;
}

export const day = (at: string) => new Date(at).toLocaleDateString(undefined, { dateStyle: "medium" });
