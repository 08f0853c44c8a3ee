import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type PartShown, type Series } from "../../api";
import type { Range } from "../../format";
import { StateMark } from "../StateMark";
import { TimePlot } from "../TimePlot";

/** PlotPart is the plot of one path; dragging across it, or its name, leads to the path itself. */
export function PlotPart({ plot }: { plot: NonNullable<PartShown["plot"]> }) {
  const navigate = useNavigate();
  const [zoomed, setZoomed] = useState<Range>();
  const range = zoomed ?? { from: new Date(plot.from_at).getTime(), to: new Date(plot.to_at).getTime() };
  const iso = (t: number) => encodeURIComponent(new Date(t).toISOString());
  const series = useQuery({
    queryKey: ["path", plot.path_id, "series", "board", Math.round(range.from / 10_000), Math.round(range.to / 10_000)],
    queryFn: () => get<Series>(`/paths/${plot.path_id}/series?from_at=${iso(range.from)}&to_at=${iso(range.to)}`),
    placeholderData: keepPreviousData,
  });
  return (
    <div>
      <p className="text-sm">
        <StateMark state={plot.state} />{" "}
        <Link to={"/paths/" + plot.path_id} className="underline underline-offset-4">
          {plot.from} → {plot.to}
        </Link>{" "}
        <span className="text-soft">
          IPv{plot.family}
          {plot.via !== "icmp" && ` by ${plot.via}`}
        </span>
        {zoomed && (
          <>
            {" "}
            <button type="button" className="cursor-pointer text-soft underline underline-offset-4 hover:text-ink" onClick={() => setZoomed(undefined)}>
              All of it
            </button>{" "}
            <button type="button" className="cursor-pointer text-soft underline underline-offset-4 hover:text-ink" onClick={() => void navigate(`/paths/${plot.path_id}?range=24+h&from=${Math.round(zoomed.from)}&to=${Math.round(zoomed.to)}`)}>
              On the path's page
            </button>
          </>
        )}
      </p>
      <div className="min-h-48">{series.data && <TimePlot series={series.data} moves={[]} range={range} theme={document.documentElement.dataset.theme ?? ""} onZoom={setZoomed} tall="h-56 lg:h-[calc(var(--h)*12.5rem-7rem)]" />}</div>
    </div>
  );
}
