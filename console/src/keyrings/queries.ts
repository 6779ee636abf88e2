import type { EntriesExport, Entry, EntryEdit, ImportedLine, Keyring, NewEntry } from "../schema";
import { call } from "../wire";

const ringAt = (ring: string) => `keyrings/${encodeURIComponent(ring)}`;
const entryAt = (ring: string, name: string) => `${ringAt(ring)}/entries/${encodeURIComponent(name)}`;

export const getKeyrings = () => call<Keyring[]>("GET", "keyrings");
export const addEntry = (ring: string, e: NewEntry) => call<Entry>("POST", ringAt(ring) + "/entries", e);
export const setEntryPassword = (ring: string, name: string, password: string, grace: number) => call<void>("PUT", entryAt(ring, name) + "/password", { password, grace });
export const setEntryDisabled = (ring: string, name: string, disabled: boolean) => call<void>("PUT", entryAt(ring, name) + "/disabled", disabled);
export const editEntry = (ring: string, name: string, to: EntryEdit) => call<void>("PATCH", entryAt(ring, name), to);
export const removeEntry = (ring: string, name: string) => call<void>("DELETE", entryAt(ring, name));
export const importEntries = (ring: string, file: string, dry: boolean) => call<ImportedLine[]>("POST", ringAt(ring) + "/import", { file, dry });
export const exportEntries = (ring: string) => call<EntriesExport>("GET", ringAt(ring) + "/export");
