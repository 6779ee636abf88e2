import { Failure } from "../wire";

// Somebody has edited the file. The edit is not active and would be lost.
export const wasEdited = (error: Error | null) => error instanceof Failure && error.code === "file-edited";
