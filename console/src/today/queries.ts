import type { Today } from "../schema";
import { call } from "../wire";

export const getToday = () => call<Today>("GET", "today");
