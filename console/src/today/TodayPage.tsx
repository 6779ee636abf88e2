import { key } from "../parts/keys";
import { detailOf, TryThis } from "../activity/TryThis";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { type Outcome, OutcomeMark, OutcomeShape, wordOf } from "../parts/OutcomeMark";
import { ago } from "../parts/format";
import { Broken, Heading, Loading } from "../parts/states";
import { getToday } from "./queries";
import type { DoorHits } from "../schema";

const shown: { outcome: Outcome; colour: string }[] = [
  { outcome: "admit", colour: "var(--good)" },
  { outcome: "challenge", colour: "var(--ask)" },
  { outcome: "refuse", colour: "var(--bad)" },
  { outcome: "hide", colour: "var(--soft)" },
  { outcome: "reject", colour: "var(--ink)" },
];

// The first page: is the site guarded as it was meant, and what happened at its doors?
export function TodayPage() {
  const today = useQuery({ queryKey: key("today"), queryFn: getToday, refetchInterval: 10_000 });
  if (today.isPending) return <Loading what="the day" />;
  if (today.error) return <Broken what="day" error={today.error} retry={() => today.refetch()} />;
  const { hours, doors, asking, refusals, sessions, people, attention, doorways, guarantees } = today.data;
  const sum = (o: Outcome) => hours.reduce((n, h) => n + (h.outcomes[o] ?? 0), 0);
  const data = hours.map((h) => ({
    at: new Date(h.at).toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit" }),
    ...h.outcomes,
  }));
  const all = shown.reduce((n, s) => n + sum(s.outcome), 0);

  return (
    <>
      <Heading title="Today">
        {doorways} doors guard the site.{" "}
        {guarantees === 0 ? "The policy has no guarantees." : `All ${guarantees} guarantees are proven, for all places and visitors.`}
      </Heading>
      <section aria-labelledby="attention" className="mb-8">
        <h2 id="attention" className="mb-1 font-bold">
          What needs attention
        </h2>
        {attention.length === 0 ? (
          <p className="text-good">Nothing.</p>
        ) : (
          <ul className="flex flex-col gap-1 border-l-4 border-ask pl-4">
            {attention.map((a) => (
              <li key={a}>{a}</li>
            ))}
          </ul>
        )}
      </section>
      <section aria-labelledby="hours">
        <h2 id="hours" className="mb-1 font-bold">
          Requests in the last 24 hours
        </h2>
        <ul className="mb-3 flex flex-wrap gap-x-6 gap-y-1">
          {shown.map(({ outcome }) => (
            <li key={outcome} className="flex items-center gap-2">
              <OutcomeMark outcome={outcome} /> {sum(outcome).toLocaleString()}
            </li>
          ))}
        </ul>
        <div
          className="h-56"
          role="img"
          aria-label={`${all} requests in the last 24 hours: ${shown.map((s) => `${sum(s.outcome)} ${wordOf(s.outcome)}`).join(", ")}`}
        >
          <ResponsiveContainer width="100%" height="100%">
            <BarChart data={data} margin={{ left: 0, right: 0, top: 4, bottom: 0 }} accessibilityLayer={false}>
              <CartesianGrid vertical={false} stroke="var(--line)" />
              <XAxis
                dataKey="at"
                tick={{ fill: "var(--soft)", fontSize: 12 }}
                tickLine={false}
                axisLine={{ stroke: "var(--line)" }}
                interval="preserveStartEnd"
                minTickGap={28}
              />
              <YAxis tick={{ fill: "var(--soft)", fontSize: 12 }} tickLine={false} axisLine={false} allowDecimals={false} width={44} />
              <Tooltip
                cursor={{ fill: "var(--hover)" }}
                contentStyle={{ background: "var(--sheet)", border: "1px solid var(--line)", color: "var(--ink)" }}
                isAnimationActive={false}
              />
              {shown.map(({ outcome, colour }) => (
                <Bar key={outcome} dataKey={outcome} name={wordOf(outcome)} stackId="all" fill={colour} isAnimationActive={false} />
              ))}
            </BarChart>
          </ResponsiveContainer>
        </div>
      </section>
      <div className="mt-8 grid grid-cols-2 gap-x-12 gap-y-8 max-lg:grid-cols-1">
        <DoorHitsList id="doors" title="Doors that denied most often" none="Nobody was denied." doors={doors} />
        <section aria-labelledby="refusals">
          <h2 id="refusals" className="mb-2 font-bold">
            Latest denials
          </h2>
          {refusals.length === 0 ? (
            <p className="text-soft">None recorded.</p>
          ) : (
            <ul>
              {refusals.map((e) => (
                <li key={e.id} className="border-b border-line py-1.5">
                  <span className="flex justify-between gap-4">
                    <span className="wrap-anywhere">
                      <strong>{e.account || "somebody"}</strong> <code>{e.place}</code>
                    </span>
                    <span className="whitespace-nowrap text-soft">{ago(e.at)}</span>
                  </span>
                  <span className="text-sm text-soft">
                    {detailOf(e)}{" "}
                    {e.reference && (
                      <Link className="underline" to={`/activity?reference=${e.reference}`}>
                        {e.reference}
                      </Link>
                    )}{" "}
                    <TryThis event={e} />
                  </span>
                </li>
              ))}
            </ul>
          )}
        </section>
        <DoorHitsList id="asking" title="Doors that asked most often for sign-in" none="Nobody was asked." doors={asking} />
      </div>
      <p className="mt-8 text-soft">
        <Link className="underline" to="/sessions">
          {sessions.toLocaleString()}
          {sessions >= 5000 && " or more"} {sessions === 1 ? "session" : "sessions"}
        </Link>{" "}
        now, of{" "}
        <Link className="underline" to="/people">
          {people.toLocaleString()} {people === 1 ? "account" : "accounts"}
        </Link>
        .
      </p>
    </>
  );
}

function DoorHitsList({ id, title, none, doors }: { id: string; title: string; none: string; doors: DoorHits[] }) {
  return (
    <section aria-labelledby={id}>
      <h2 id={id} className="mb-2 font-bold">
        {title}
      </h2>
      {doors.length === 0 ? (
        <p className="text-soft">{none}</p>
      ) : (
        <table className="w-full text-left">
          <tbody>
            {doors.map((d) => (
              <tr key={d.door} className="border-b border-line">
                <th scope="row" className="py-1.5 pr-4 font-normal">
                  <code className="wrap-anywhere">{d.door}</code>
                </th>
                <td className="py-1.5">
                  <span className="flex flex-wrap justify-end gap-x-4">
                    {shown.map(({ outcome }) =>
                      d.outcomes[outcome] ? (
                        <span key={outcome} className="flex items-center gap-1.5" title={wordOf(outcome)}>
                          <OutcomeShape outcome={outcome} />
                          <span className="sr-only">{wordOf(outcome)}</span> {d.outcomes[outcome]!.toLocaleString()}
                        </span>
                      ) : null,
                    )}
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
