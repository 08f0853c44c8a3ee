import { closestCenter, DndContext, KeyboardSensor, pointerWithin, PointerSensor, useSensor, useSensors, type Announcements, type CollisionDetection, type DragEndEvent } from "@dnd-kit/core";
import { SortableContext, rectSortingStrategy, sortableKeyboardCoordinates, useSortable } from "@dnd-kit/sortable";
import { useState } from "react";
import type { PartShown } from "../../api";
import { fresh, kinds, lacks, moved, sized, type Draft } from "../../boardForm";
import { Choice } from "../Choice";
import { PartBody } from "./PartBody";
import { PartForm } from "./PartForm";
import { place } from "./place";

const tool = "min-h-6 min-w-6 cursor-pointer px-1.5 text-soft underline-offset-4 hover:text-ink hover:underline disabled:cursor-default disabled:opacity-40";

/** under is the part that the pointer is on; for the keyboard, and beside all parts, the nearest. */
const under: CollisionDetection = (at) => {
  const on = at.pointerCoordinates ? pointerWithin(at) : [];
  return on.length > 0 ? on : closestCenter(at);
};

/** Arrange is a board whose parts are added, moved, sized and told what they show; by mouse or by keyboard. */
export function Arrange({ list, shown, onChange }: { list: Draft[]; shown: Map<string, PartShown>; onChange: (l: Draft[]) => void }) {
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 4 } }), useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }));
  const [open, setOpen] = useState<string>();
  const [said, setSaid] = useState("");
  const name = (d: Draft) => d.part.title || kinds.find(([k]) => k === d.part.kind)![1];
  const move = (key: string, to: number) => {
    const next = moved(list, key, to);
    if (next === list) return;
    onChange(next);
    const at = next.findIndex((d) => d.key === key);
    setSaid(`${name(next[at]!)} is part ${at + 1} of ${next.length} now.`);
  };
  const called = (id: unknown) => {
    const d = list.find((o) => o.key === id);
    return d ? name(d) : "The part";
  };
  const stands = (id: unknown) => `part ${list.findIndex((d) => d.key === id) + 1} of ${list.length}`;
  const announcements: Announcements = {
    onDragStart: ({ active }) => `${called(active.id)}, ${stands(active.id)}, is picked up.`,
    onDragOver: ({ active, over }) => over ? `${called(active.id)} would be ${stands(over.id)}.` : undefined,
    onDragEnd: ({ active, over }) => over ? `${called(active.id)} is put down as ${stands(over.id)}.` : `${called(active.id)} stays where it was.`,
    onDragCancel: ({ active }) => `${called(active.id)} stays where it was.`,
  };
  const drop = (e: DragEndEvent) => {
    const to = list.findIndex((d) => d.key === e.over?.id);
    if (to >= 0) move(String(e.active.id), to);
  };
  const add = (label: string) => {
    const kind = kinds.find(([, n]) => n === label)![0];
    const one = { key: crypto.randomUUID(), part: fresh(kind) };
    onChange([...list, one]);
    setOpen(one.key);
  };
  return (
    <>
      <div className="flex flex-wrap items-end gap-x-6 gap-y-2 pb-3">
        <Choice above label="Add a part" none="choose …" value="" values={kinds.map(([, n]) => n)} onChange={(n) => n && add(n)} />
        <p className="max-w-xl pb-1 text-sm text-soft">Drag a part by its name, or press Space on it and move it by the arrow keys.</p>
      </div>
      <p role="status" className="sr-only">
        {said}
      </p>
      <DndContext sensors={sensors} collisionDetection={under} onDragEnd={drop}
        accessibility={{ announcements, screenReaderInstructions: { draggable: "Press Space to pick the part up, the arrow keys to move it, Space to put it down, Escape to leave it where it was." } }}>
        <SortableContext items={list.map((d) => d.key)} strategy={rectSortingStrategy}>
          <ul className={place.arranged}>
            {list.map((d, at) => (
              <One key={d.key} draft={d} at={at} of={list.length} name={name(d)} shown={shown.get(d.key)} open={open === d.key}
                toggle={() => setOpen(open === d.key ? undefined : d.key)}
                move={(by) => move(d.key, at + by)}
                change={(part) => onChange(list.map((o) => (o.key === d.key ? { ...o, part } : o)))}
                remove={() => {
                  onChange(list.filter((o) => o.key !== d.key));
                  setSaid(`${name(d)} is removed.`);
                }}
              />
            ))}
          </ul>
        </SortableContext>
      </DndContext>
      {list.length === 0 && <p className="text-soft">Nothing is on this board yet: add a part above.</p>}
    </>
  );
}

function One({ draft, at, of, name, shown, open, toggle, move, change, remove }: { draft: Draft; at: number; of: number; name: string; shown?: PartShown; open: boolean; toggle: () => void; move: (by: number) => void; change: (p: Draft["part"]) => void; remove: () => void }) {
  const s = useSortable({ id: draft.key });
  const p = draft.part;
  const missing = lacks(p);
  const style = { ...place.of(p, open), transform: s.transform ? `translate3d(${s.transform.x}px, ${s.transform.y}px, 0)` : undefined, transition: s.transition, zIndex: s.isDragging ? 10 : undefined };
  return (
    <li ref={s.setNodeRef} style={style} className={place.part + " flex flex-col border border-line bg-paper p-3 " + (s.isDragging ? "border-ochre opacity-90" : "")} data-part={p.kind}>
      <div className="flex flex-wrap items-baseline gap-x-1 pb-1 text-sm">
        <button type="button" ref={s.setActivatorNodeRef} {...s.attributes} {...s.listeners} aria-label={`${name}: move`} className="mr-auto min-h-6 cursor-grab touch-none text-left font-semibold hover:text-ochre active:cursor-grabbing">
          <span aria-hidden="true" className="mr-1.5 text-soft">
            ⠿
          </span>
          {name}
        </button>
        <button type="button" className={tool} disabled={at === 0} aria-label={`${name}: earlier`} title="Earlier" onClick={() => move(-1)}>
          ←
        </button>
        <button type="button" className={tool} disabled={at === of - 1} aria-label={`${name}: later`} title="Later" onClick={() => move(1)}>
          →
        </button>
        {([["narrower", "–|", { width: -1 }], ["wider", "+|", { width: 1 }], ["lower", "–↕", { height: -1 }], ["higher", "+↕", { height: 1 }]] as const).map(([word, sign, by]) => (
          <button key={word} type="button" className={tool} aria-label={`${name}: ${word}`} title={word[0]!.toUpperCase() + word.slice(1)} onClick={() => change(sized(p, by))}>
            {sign}
          </button>
        ))}
        <button type="button" className={tool} aria-expanded={open} aria-label={open ? `Done with ${name}` : `Change ${name}`} onClick={toggle}>
          {open ? "Done" : "Change"}
        </button>
        <button type="button" className={tool} aria-label={`Remove ${name}`} onClick={remove}>
          Remove
        </button>
      </div>
      {open && <PartForm part={p} onChange={change} />}
      <div className="relative min-h-0 grow overflow-auto">{missing ? <p className="text-soft">{missing}</p> : shown && <PartBody part={shown} title={shown.heading} />}</div>
    </li>
  );
}

