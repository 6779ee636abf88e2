import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Broken, Loading } from "../parts/states";
import { field } from "../parts/styles";
import { about } from "./kinds";
import { getSample, listKinds, samplePage } from "./queries";

// Each kind of message with sample data, as a mail program shows it and as plain text.
export function Samples() {
  const kinds = useQuery({ queryKey: key("message kinds"), queryFn: listKinds });
  const [kind, setKind] = useState("recover");
  const [language, setLanguage] = useState<"en" | "de">("en");
  const sample = useQuery({ queryKey: key("message sample", kind, language), queryFn: () => getSample(kind, language) });
  if (kinds.isPending) return <Loading what="the kinds" />;
  if (kinds.error) return <Broken what="kinds" error={kinds.error} retry={() => kinds.refetch()} />;
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap gap-3">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Kind
          <select className={`${field} max-w-full`} value={kind} onChange={(e) => setKind(e.target.value)}>
            {kinds.data.map((k) => (
              <option key={k} value={k}>
                {about(k)}
              </option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Language
          <select className={field} value={language} onChange={(e) => setLanguage(e.target.value as typeof language)}>
            <option value="en">English</option>
            <option value="de">Deutsch</option>
          </select>
        </label>
      </div>
      <p className="font-bold">{sample.data?.subject ?? " "}</p>
      <iframe
        className="h-[26rem] w-full border border-line bg-white"
        title="As mail programs show it"
        src={samplePage(kind, language)}
        sandbox=""
      />
      <details>
        <summary className="cursor-pointer">As plain text</summary>
        <p className="mt-2 whitespace-pre-wrap wrap-anywhere">{sample.data?.text}</p>
      </details>
    </div>
  );
}
