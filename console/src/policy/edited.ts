import { Failure } from "../wire";

// Somebody has edited the file, which is not in force and would be lost.
export const wasEdited = (error: Error | null) => error instanceof Failure && error.code === "file-edited";
