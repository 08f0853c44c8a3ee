import { CustomChart, LineChart } from "echarts/charts";
import { GridComponent, MarkAreaComponent, TooltipComponent } from "echarts/components";
import * as echarts from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { useEffect, useRef, useState, type PointerEvent } from "react";
import type { Lanes, Series } from "../api";
import { exactly, localZone, ms, percent, type Range } from "../format";
import { options } from "./plotOptions";

echarts.use([LineChart, CustomChart, GridComponent, TooltipComponent, MarkAreaComponent, CanvasRenderer]);

/**
 * TimePlot draws delay in ink over the ribbon of what is normal, and hangs loss
 * from the top. Dragging across it asks for a shorter range.
 */
export function TimePlot({ series, moves, range, theme, onZoom, tall = "h-96" }: { series: Series; moves: NonNullable<Lanes["changes"]>; range: Range; theme: string; onZoom: (r: Range) => void; tall?: string }) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<echarts.ECharts>(null);
  const begun = useRef<number>(undefined); // where a drag began; the state only draws it
  const [drag, setDrag] = useState<{ from: number; to: number }>();
  useEffect(() => {
    const made = echarts.init(box.current!, null, { renderer: "canvas" });
    chart.current = made;
    const watcher = new ResizeObserver(() => made.resize());
    watcher.observe(box.current!);
    return () => {
      watcher.disconnect();
      made.dispose();
    };
  }, []);
  useEffect(() => {
    chart.current!.setOption(options(series, moves, range, box.current!), { notMerge: true });
    box.current!.dataset.axis = `${range.from} ${range.to}`; // what is drawn by now, which the address may be ahead of
  }, [series, moves, range, theme]);

  const place = (e: PointerEvent) => e.clientX - box.current!.getBoundingClientRect().left;
  const time = (x: number) => Number(chart.current!.convertFromPixel({ xAxisIndex: 0 }, x));
  const start = (e: PointerEvent<HTMLDivElement>) => {
    if (e.button !== 0) return;
    e.currentTarget.setPointerCapture(e.pointerId);
    begun.current = place(e);
  };
  const move = (e: PointerEvent) => begun.current !== undefined && setDrag({ from: begun.current, to: place(e) });
  const cancel = () => {
    begun.current = undefined;
    setDrag(undefined);
  };
  const end = (e: PointerEvent) => {
    const [from, to] = [begun.current, place(e)];
    cancel();
    if (from === undefined || Math.abs(to - from) < 6) return;
    const [a, b] = [time(Math.min(from, to)), time(Math.max(from, to))];
    onZoom({ from: Math.max(range.from, a), to: Math.min(range.to, b) });
  };
  return (
    <div className="relative touch-pan-y select-none" onPointerDown={start} onPointerMove={move} onPointerUp={end} onPointerCancel={cancel}>
      <div ref={box} role="img" aria-label={summary(series)} className={tall + " w-full cursor-crosshair"} data-points={series.at?.length ?? 0} data-resolution={series.resolution} />
      {drag && (
        <div aria-hidden="true" className="pointer-events-none absolute inset-y-0 border-x border-ochre bg-ochre/10"
          style={{ left: Math.min(drag.from, drag.to), width: Math.abs(drag.to - drag.from) }} />
      )}
    </div>
  );
}

function summary(s: Series): string {
  const delays = (s.rtt_median_ms ?? []).filter((v): v is number => v != null).sort((a, b) => a - b);
  const sent = (s.sent ?? []).reduce((a, b) => a + b, 0);
  const lost = (s.lost ?? []).reduce((a, b) => a + b, 0);
  const middle = delays[Math.floor(delays.length / 2)];
  return `Round-trip time and loss from ${exactly(s.from_at)} to ${exactly(s.to_at)}, ${localZone}: ` +
    (middle == null ? "no answers" : `around ${ms(middle)} ms, at most ${ms(delays[delays.length - 1])} ms`) +
    (sent ? `; ${percent(lost / sent)} % of ${sent} probes lost` : "") + ". The same data is in the table.";
}
