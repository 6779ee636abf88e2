// The looks of controls.

export const button = "cursor-pointer rounded px-4 py-1.5 font-bold disabled:cursor-not-allowed disabled:opacity-50";
export const primary = `${button} bg-brass text-on-brass`;
export const plain = `${button} border border-line hover:bg-hover`;
export const small = "cursor-pointer rounded border border-line px-2.5 py-0.5 text-sm hover:bg-hover disabled:opacity-50";
// What takes access or cannot be undone looks like that: the way there, and the last step.
export const takes = `${button} border border-bad text-bad hover:bg-hover`;
export const takesSmall = "cursor-pointer rounded border border-bad px-2.5 py-0.5 text-sm text-bad hover:bg-hover disabled:opacity-50";
export const taking = `${button} bg-bad text-paper`;
export const field = "rounded border border-line bg-sheet px-3 py-1.5 text-ink placeholder:text-soft";
