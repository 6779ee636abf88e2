// A draft that is not active, as this browser keeps it for its author.
export interface KeptDraft {
  base: number; // the version from which it began
  text: string;
  comment: string;
  at: string;
}

const key = (owner: string) => `draft ${new URL("..", document.baseURI).pathname} ${owner}`;

export function keptDraft(owner: string): KeptDraft | undefined {
  try {
    const kept: Partial<KeptDraft> = JSON.parse(localStorage.getItem(key(owner)) ?? "{}");
    return typeof kept.text === "string" && typeof kept.base === "number" && typeof kept.comment === "string" && typeof kept.at === "string"
      ? (kept as KeptDraft)
      : undefined;
  } catch {
    return undefined;
  }
}

// Keeps a draft in the place of the one before, or none.
export function keepDraft(owner: string, draft?: KeptDraft) {
  try {
    if (draft) localStorage.setItem(key(owner), JSON.stringify(draft));
    else localStorage.removeItem(key(owner));
  } catch {
    // without storage, or with a full one, the draft lasts as long as the page
  }
}
