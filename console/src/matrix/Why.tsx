import { key } from "../parts/keys";
import { Link } from "react-router";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { Asked } from "./Grid";
import { Drawer } from "../parts/dialog";
import { Answer } from "../try/Answer";
import { explain } from "../try/queries";

// Why a visitor gets that: the same explanation as on the page Try.
export function Why({ asked, onClose }: { asked?: Asked; onClose: () => void }) {
  const question = asked && {
    method: asked.row.method,
    url: (asked.row.host ? `http://${asked.row.host}` : "") + asked.row.path,
    as: asked.visitor,
    client: "browser",
  };
  const answer = useQuery({
    queryKey: key("explain", question),
    queryFn: () => explain(question!),
    enabled: !!question,
    placeholderData: keepPreviousData,
  });
  return (
    <Drawer
      open={!!asked}
      onClose={onClose}
      title={
        question && (
          <span className="font-normal">
            <code>
              {question.method} {question.url}
            </code>{" "}
            as <code>{question.as}</code>
          </span>
        )
      }
    >
      {question && (
        <>
          {asked.row.kind === "region" && (
            <p className="-mt-3 text-sm text-soft">
              One place of <code>{asked.row.label}</code>; the result is the same for all others.
            </p>
          )}
          <div className="mt-6 min-h-64">
            {answer.error ? <p role="alert">{answer.error.message}</p> : answer.data && <Answer explanation={answer.data} narrow />}
          </div>
          <p className="mt-6">
            <Link className="text-brass underline" to={`/try?${new URLSearchParams(question)}`}>
              Change the question
            </Link>
            <Link className="ml-5 text-brass underline" to={`/site?${new URLSearchParams({ place: asked.row.path })}`}>
              Change who may go there
            </Link>
          </p>
        </>
      )}
    </Drawer>
  );
}
