import type { Matrix } from "../schema";
import { call } from "../wire";

export const getMatrix = (q: { files: boolean; as: string[] }) => call<Matrix>("POST", "matrix", q);
