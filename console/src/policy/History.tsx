import { key } from "../parts/keys";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Ask } from "../parts/dialog";
import { useState } from "react";
import { when } from "../parts/format";
import { Broken, Loading } from "../parts/states";
import { plain } from "../parts/styles";
import { Difference } from "./Editor";
import { wasEdited } from "./edited";
import { getVersion, getVersions, rollBack } from "./queries";
import type { Version } from "../schema";

export function HistoryPanel({ running }: { running: Version }) {
  const queries = useQueryClient();
  const versions = useQuery({ queryKey: key("versions", running.id), queryFn: getVersions });
  const [chosen, setChosen] = useState<number>();
  const [asking, setAsking] = useState(false);
  const picked = versions.data?.find((v) => v.id === chosen) ?? versions.data?.[0];
  // The oldest may be the first no more: those before are forgotten in time.
  const earlier = picked && versions.data?.find((v) => v.id < picked.id);
  const text = useQuery({ queryKey: key("version", picked?.id), queryFn: () => getVersion(picked!.id), enabled: !!picked });
  const before = useQuery({
    queryKey: key("version", earlier?.id),
    queryFn: () => getVersion(earlier!.id),
    enabled: !!earlier,
  });
  const rollback = useMutation({
    mutationFn: (overEdit: boolean) => rollBack(picked!.id, overEdit),
    onSuccess: ({ version }) => {
      setAsking(false);
      setChosen(version.id);
      void queries.invalidateQueries();
    },
  });
  if (versions.isPending) return <Loading what="the versions" />;
  if (versions.error) return <Broken what="versions" error={versions.error} retry={() => versions.refetch()} />;
  return (
    <div className="grid grid-cols-[18rem_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
      <ol className="flex max-h-[calc(100vh-14rem)] flex-col overflow-y-auto border-t border-line" aria-label="Versions, newest first">
        {versions.data.map((v) => (
          <li key={v.id}>
            <button
              type="button"
              aria-pressed={v.id === picked?.id}
              onClick={() => setChosen(v.id)}
              className={`w-full cursor-pointer border-b border-line px-3 py-2 text-left hover:bg-hover
                ${v.id === picked?.id ? "bg-hover" : ""}`}
            >
              <span className="flex justify-between gap-2">
                <span className="font-bold">Version {v.id}</span>
                {v.id === running.id && <span className="text-sm text-good">active</span>}
              </span>
              <span className="block text-sm text-soft">
                {when(v.at)}, {v.by}
              </span>
              {v.comment && <span className="block text-sm wrap-anywhere">{v.comment}</span>}
            </button>
          </li>
        ))}
      </ol>
      {picked && (
        <div className="flex min-w-0 flex-col gap-3">
          <div className="flex flex-wrap items-center justify-between gap-3">
            <p className="text-soft">
              {earlier ? `What version ${picked.id} changed in the text of version ${earlier.id}` : "The oldest version that was kept"}
            </p>
            <button type="button" className={plain} disabled={picked.id === running.id} onClick={() => setAsking(true)}>
              Restore this version
            </button>
          </div>
          <div className="h-[calc(100vh-18rem)] min-h-80">
            {text.data && (!earlier || before.data) && (
              <Difference before={(earlier ? before.data : text.data)?.text ?? ""} after={text.data.text ?? ""} />
            )}
          </div>
        </div>
      )}
      <Ask
        question={asking ? `Restore version ${picked?.id}?` : undefined}
        text="Its text becomes a new version that takes effect immediately. The history is kept."
        yes={wasEdited(rollback.error) ? "Overwrite the file" : "Restore it"}
        gives
        busy={rollback.isPending}
        error={rollback.error}
        onYes={() => rollback.mutate(wasEdited(rollback.error))}
        onNo={() => {
          rollback.reset();
          setAsking(false);
        }}
      />
    </div>
  );
}
