// The looks of controls.

export const button = "cursor-pointer rounded px-4 py-1.5 font-bold disabled:cursor-not-allowed disabled:opacity-50";
export const primary = `${button} bg-brass text-on-brass`;
export const plain = `${button} border border-line hover:bg-hover`;
export const small = "cursor-pointer rounded border border-line px-2.5 py-0.5 text-sm hover:bg-hover disabled:opacity-50";
export const field = "rounded border border-line bg-sheet px-3 py-1.5 text-ink placeholder:text-soft";
