import type { Doors, Relations, Upstream } from "../schema";
import { call } from "../wire";

export const getDoors = () => call<Doors>("GET", "doors");
export const getRelations = (id: number) => call<Relations>("GET", `doors/${id}/relations`);
export const getUpstreams = () => call<Upstream[]>("GET", "upstreams");
