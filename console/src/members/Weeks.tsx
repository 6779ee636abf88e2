import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { day } from "../parts/format";
import { Broken } from "../parts/states";
import { listWeeks } from "./queries";

// How many had each role, week by week. Each line has a pattern of its own beside its colour.
const lines = [
  { colour: "var(--brass)", dash: "" },
  { colour: "var(--ink)", dash: "6 4" },
  { colour: "var(--good)", dash: "2 3" },
  { colour: "var(--ask)", dash: "9 3 2 3" },
  { colour: "var(--soft)", dash: "1 5" },
];

export function Weeks({ role }: { role: string }) {
  const weeks = useQuery({ queryKey: key("members", "weeks"), queryFn: () => listWeeks(26) });
  if (weeks.error) return <Broken what="weeks" error={weeks.error} retry={() => weeks.refetch()} />;
  const now: Record<string, number> = weeks.data?.at(-1)?.counts ?? {};
  const roles = role
    ? [role]
    : Object.keys(now)
        .sort((a, b) => now[b] - now[a])
        .slice(0, lines.length);
  const data = weeks.data?.map((w) => ({ at: day(w.begins), ...Object.fromEntries(roles.map((r) => [r, w.counts[r] ?? 0])) })) ?? [];
  const step = Math.max(1, Math.ceil(Math.max(0, ...data.flatMap((w) => roles.map((r) => Number((w as Record<string, unknown>)[r])))) / 4));
  const ticks = [0, 1, 2, 3, 4].map((n) => n * step);
  return (
    <section aria-labelledby="weeks" className="mb-8">
      <h2 id="weeks" className="mb-1 font-bold">
        Week by week
      </h2>
      <p className="mb-2 flex flex-wrap gap-x-5 text-sm text-soft">
        {roles.map((r, i) => (
          <span key={r} className="flex items-center gap-1.5">
            <svg width="28" height="8" aria-hidden="true">
              <line x1="0" y1="4" x2="28" y2="4" stroke={lines[i].colour} strokeWidth="2" strokeDasharray={lines[i].dash} />
            </svg>
            {r} {(now[r] ?? 0).toLocaleString()}
          </span>
        ))}
      </p>
      <div
        className="h-40"
        role="img"
        aria-label={`Members in the last 26 weeks; now ${roles.map((r) => `${now[r] ?? 0} ${r}`).join(", ")}`}
      >
        {weeks.data && (
          <ResponsiveContainer width="100%" height="100%">
            <LineChart data={data} margin={{ left: 0, right: 8, top: 4, bottom: 0 }} accessibilityLayer={false}>
              <CartesianGrid vertical={false} stroke="var(--line)" />
              <XAxis
                dataKey="at"
                tick={{ fill: "var(--soft)", fontSize: 12 }}
                tickLine={false}
                axisLine={{ stroke: "var(--line)" }}
                minTickGap={40}
              />
              <YAxis
                tick={{ fill: "var(--soft)", fontSize: 12 }}
                tickLine={false}
                axisLine={false}
                interval={0}
                domain={[0, ticks[ticks.length - 1]]}
                ticks={ticks}
                width={44}
              />
              <Tooltip
                contentStyle={{ background: "var(--sheet)", border: "1px solid var(--line)", color: "var(--ink)" }}
                isAnimationActive={false}
              />
              {roles.map((r, i) => (
                <Line
                  key={r}
                  dataKey={r}
                  stroke={lines[i].colour}
                  strokeDasharray={lines[i].dash}
                  strokeWidth={2}
                  dot={false}
                  type="stepAfter"
                  isAnimationActive={false}
                />
              ))}
            </LineChart>
          </ResponsiveContainer>
        )}
      </div>
    </section>
  );
}
