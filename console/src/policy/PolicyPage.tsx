import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { when } from "../parts/format";
import { Broken, Heading, Loading } from "../parts/states";
import { DraftPanel } from "./Draft";
import { HistoryPanel } from "./History";
import { me } from "../frame/queries";
import { getPolicy } from "./queries";

// The active policy, a draft of the next one, and earlier versions.
export function PolicyPage() {
  const [tab, setTab] = useState<"draft" | "history">("draft");
  const running = useQuery({ queryKey: key("policy"), queryFn: getPolicy, refetchInterval: 15_000 });
  const who = useQuery({ queryKey: key("me"), queryFn: me });
  if (running.isPending || who.isPending) return <Loading what="the policy" />;
  if (running.error) return <Broken what="policy" error={running.error} retry={() => running.refetch()} />;
  return (
    <>
      <Heading title="Policy">
        Version {running.data.id} is active since {when(running.data.at)}, by {running.data.by}
        {running.data.comment && `: ${running.data.comment}`}.
      </Heading>
      <div className="mb-4 flex w-fit rounded border border-line bg-sheet" role="group" aria-label="Show">
        {(["draft", "history"] as const).map((name) => (
          <button
            key={name}
            type="button"
            aria-pressed={tab === name}
            onClick={() => setTab(name)}
            className={`cursor-pointer px-4 py-1.5 first:rounded-l last:rounded-r hover:bg-hover
              ${tab === name ? "bg-hover font-bold" : ""}`}
          >
            {name === "draft" ? "Draft" : "History"}
          </button>
        ))}
      </div>
      <div hidden={tab !== "draft"}>
        <DraftPanel running={running.data} owner={who.data?.name ?? ""} />
      </div>
      {tab === "history" && <HistoryPanel running={running.data} />}
    </>
  );
}
