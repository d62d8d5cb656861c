import { Glide, type Json, type Participant, pointOf } from "@rendel/client/parts";
import { type KeyboardEvent, type PointerEvent, useEffect, useMemo, useRef, useState } from "react";
import type { Charter, Surface } from "../api.ts";
import { Button, Panel } from "../parts/ui.tsx";
import { tabsOf } from "./company.tsx";
import { isMembers, member, pointerToken } from "./pointer.ts";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

/** A map of the state whose records stand on a surface, and the facts that point at it. */
type Layer = {
  map: string;
  spot: string;
  surface: Surface;
  pointer: string | undefined;
  selection: string | undefined;
};

/** What of a charter can be drawn as a plan. */
export function layerOf(charter: Charter): Layer | undefined {
  for (const [map, field] of Object.entries(charter.state)) {
    for (const [spot, inner] of Object.entries(field.kind === "map" ? (field.each ?? {}) : {})) {
      const surface = charter.surfaces?.[inner.surface ?? ""];
      if (surface === undefined) continue;
      const facts = Object.entries(charter.presence?.fields ?? {});
      return {
        map,
        spot,
        surface,
        pointer: facts.find(([, fact]) => fact.surface === inner.surface)?.[0],
        selection: facts.find(([, fact]) => fact.refers === `/${map}`)?.[0],
      };
    }
  }
  return undefined;
}

type View = { x: number; y: number; scale: number };
type Point = { x: number; y: number };

const round = (metres: number) => Math.round(metres * 100) / 100;
const within = ([from, to]: [number, number], at: number) => Math.min(to, Math.max(from, at));

/**
 * The surface with its records, and where everybody points. Places are in the surface's own unit,
 * so that everyone means the same whatever their screen and zoom. Dragging is one gesture; arrow
 * keys move what has the focus.
 */
export function Plan({ charter, layer, seat }: { charter: Charter; layer: Layer; seat: Seat }) {
  const { surface, map, spot } = layer;
  const svg = useRef<SVGSVGElement>(null);
  const [view, setView] = useState<View>({ x: 0, y: 0, scale: 1 });
  const [selected, setSelected] = useState<string>();
  const keys = useRef<{ id: string; gesture: string; at: number }>(undefined);
  const drag = useRef<{ id: string; gesture: string; grip: Point } | { from: Point; view: View }>(
    undefined,
  );
  const [width, height] = [surface.x[1] - surface.x[0], surface.y[1] - surface.y[0]];
  const records = Object.entries(
    isMembers(member(seat.view ?? null, map))
      ? (member(seat.view ?? null, map) as Record<string, Json>)
      : {},
  );
  const marks = records.flatMap(([id, record]) => {
    const at = pointOf(member(record, spot));
    return at === undefined ? [] : [{ id, at, record }];
  });
  const margin = Math.max(width, height) * 0.03;
  const box = {
    x: surface.x[0] - margin + view.x,
    y: -surface.y[1] - margin + view.y,
    width: (width + 2 * margin) / view.scale,
    height: (height + 2 * margin) / view.scale,
  };
  // So many units are a pixel, as far as anybody can say before it is drawn.
  const unit = box.width / (svg.current?.clientWidth || 900);

  /** Where an event is on the surface, whose y goes up. */
  const placeOf = (event: { clientX: number; clientY: number }): Point => {
    const matrix = svg.current?.getScreenCTM()?.inverse();
    const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(matrix);
    return { x: round(within(surface.x, at.x)), y: round(within(surface.y, -at.y)) };
  };
  const move = (id: string, to: Point, gesture: string) => {
    const path = `/${pointerToken(map)}/${pointerToken(id)}/${pointerToken(spot)}`;
    const at = { x: round(within(surface.x, to.x)), y: round(within(surface.y, to.y)) };
    seat.propose([{ at: path, op: "set", value: at }], { gesture });
  };
  const select = (id: string | undefined) => {
    setSelected(id);
    if (layer.selection !== undefined)
      seat.say({ [layer.selection]: id === undefined ? null : [id] });
  };
  const zoom = (factor: number, about?: Point) => {
    setView((old) => {
      const scale = Math.min(8, Math.max(1, old.scale * factor));
      const [nextWidth, nextHeight] = [(width + 2 * margin) / scale, (height + 2 * margin) / scale];
      const centre = about ?? { x: box.x + box.width / 2, y: -(box.y + box.height / 2) };
      const part = { x: (centre.x - box.x) / box.width, y: (-centre.y - box.y) / box.height };
      const x = centre.x - part.x * nextWidth - (surface.x[0] - margin);
      const y = -centre.y - part.y * nextHeight - (-surface.y[1] - margin);
      return scale === 1 ? { x: 0, y: 0, scale } : { x, y, scale };
    });
  };

  const pressed = (event: PointerEvent, id?: string) => {
    event.stopPropagation();
    svg.current?.setPointerCapture(event.pointerId);
    const place = placeOf(event);
    if (id === undefined) {
      drag.current = { from: { x: event.clientX, y: event.clientY }, view };
      select(undefined);
      return;
    }
    const at = marks.find((mark) => mark.id === id)?.at ?? place;
    drag.current = {
      id,
      gesture: named(`move ${id}`),
      grip: { x: at.x - place.x, y: at.y - place.y },
    };
    select(id);
    void seat.hold(`/${map}/${id}`);
  };
  const moved = (event: PointerEvent) => {
    const place = placeOf(event);
    if (layer.pointer !== undefined) seat.say({ [layer.pointer]: place });
    const { current } = drag;
    if (current === undefined) return;
    if ("id" in current) {
      move(
        current.id,
        { x: place.x + current.grip.x, y: place.y + current.grip.y },
        current.gesture,
      );
    } else {
      const by = {
        x: (event.clientX - current.from.x) * unit,
        y: (event.clientY - current.from.y) * unit,
      };
      setView({ ...current.view, x: current.view.x - by.x, y: current.view.y - by.y });
    }
  };
  const released = () => {
    if (drag.current !== undefined && "id" in drag.current)
      seat.letGo(`/${map}/${drag.current.id}`);
    drag.current = undefined;
  };
  const keyed = (event: KeyboardEvent, id: string, at: Point) => {
    const step = event.shiftKey ? 5 : 1;
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[
      event.key
    ];
    if (by !== undefined) {
      event.preventDefault();
      const now = Date.now();
      const { current } = keys;
      // Steps with pauses under a second are one.
      const gesture =
        current?.id === id && now - current.at < 1_000 ? current.gesture : named(`move ${id}`);
      keys.current = { id, gesture, at: now };
      move(id, { x: at.x + (by[0] ?? 0) * step, y: at.y + (by[1] ?? 0) * step }, gesture);
      select(id);
    }
    if (event.key === "Enter" || event.key === " ") {
      event.preventDefault();
      select(selected === id ? undefined : id);
    }
    if (event.key === "Escape") select(undefined);
  };

  const company = seat.roster.filter((one) => one.id !== seat.you?.id);
  return (
    <Panel
      title={charter.title ?? charter.charter}
      aside={
        <span className="flex items-center gap-3">
          <span className="hidden sm:inline">
            {counted(marks.length, "mark")} on {width} × {height} {surface.unit}
          </span>
          <span className="flex gap-1">
            <Button
              tone="quiet"
              aria-label="Zoom in"
              className="h-7 w-7 px-0"
              onClick={() => zoom(1.4)}
            >
              +
            </Button>
            <Button
              tone="quiet"
              aria-label="Zoom out"
              className="h-7 w-7 px-0"
              onClick={() => zoom(1 / 1.4)}
            >
              −
            </Button>
            <Button
              tone="quiet"
              aria-label="Show all of it"
              className="h-7 px-2"
              onClick={() => setView({ x: 0, y: 0, scale: 1 })}
            >
              all
            </Button>
          </span>
        </span>
      }
    >
      <div className="relative">
        {/* biome-ignore lint/a11y/useSemanticElements: an SVG groups its marks itself */}
        <svg
          ref={svg}
          role="group"
          aria-label={`Plan of ${charter.title ?? charter.charter}. Tab leads from mark to mark; arrow keys move one, with shift in larger steps.`}
          viewBox={`${box.x} ${box.y} ${box.width} ${box.height}`}
          className="block aspect-[3/2] w-full touch-none rounded-b-box bg-ground select-none"
          onPointerDown={pressed}
          onPointerMove={moved}
          onPointerUp={released}
          onPointerCancel={released}
          onPointerLeave={() => layer.pointer !== undefined && seat.say({ [layer.pointer]: null })}
          onWheel={(event) => zoom(event.deltaY < 0 ? 1.2 : 1 / 1.2, placeOf(event))}
        >
          <Ground surface={surface} unit={unit} />
          {marks.map(({ id, at, record }) => {
            const holders = company.filter((one) => selects(seat, layer, one, id));
            const hold = seat.holds.get(`/${map}/${id}`);
            const holder =
              hold === undefined ? undefined : company.find((one) => one.id === hold.by);
            const what = String(member(record, "what") ?? "mark");
            return (
              // biome-ignore lint/a11y/useSemanticElements: an SVG has no button of its own
              <g
                key={id}
                role="button"
                tabIndex={0}
                aria-pressed={selected === id}
                aria-label={`${id}, ${what}, at ${at.x.toFixed(1)}, ${at.y.toFixed(1)} ${surface.unit}${holder === undefined ? "" : `, held by ${holder.name}`}`}
                transform={`translate(${at.x} ${-at.y}) scale(${unit})`}
                className="plan-mark cursor-grab outline-none"
                onPointerDown={(event) => pressed(event, id)}
                onKeyDown={(event) => keyed(event, id, at)}
              >
                {holders.map((one, index) => (
                  <circle
                    key={one.id}
                    r={15 + index * 4}
                    fill="none"
                    strokeWidth={2.5}
                    stroke={`hsl(${one.hue} 45% var(--hue-light))`}
                  />
                ))}
                <circle r={17} className="plan-focus" fill="none" />
                <Sign what={what} isSelected={selected === id} />
                <text y={26} textAnchor="middle" className="fill-soft text-[11px]">
                  {id}
                </text>
                {holder !== undefined && (
                  <text
                    y={-18}
                    textAnchor="middle"
                    className="text-[11px] font-medium"
                    fill={`hsl(${holder.hue} 45% var(--hue-light))`}
                  >
                    {holder.name} has it
                  </text>
                )}
              </g>
            );
          })}
          {layer.pointer !== undefined &&
            seat.roster.flatMap((one) =>
              tabsOf(seat, one).map(([client, facts]) => (
                <Pointer
                  key={client}
                  one={one}
                  at={pointOf(facts[layer.pointer ?? ""])}
                  unit={unit}
                />
              )),
            )}
        </svg>
      </div>
    </Panel>
  );
}

function selects(seat: Seat, layer: Layer, one: Participant, id: string): boolean {
  return tabsOf(seat, one).some(([, facts]) => {
    const ids = layer.selection === undefined ? undefined : facts[layer.selection];
    return Array.isArray(ids) && ids.includes(id);
  });
}

/** The ground: rows of trees, and a scale in the surface's unit. */
function Ground({ surface, unit }: { surface: Surface; unit: number }) {
  const [left, right] = surface.x;
  const [bottom, top] = surface.y;
  const rows = useMemo(() => {
    const gap = (top - bottom) / 10;
    return Array.from({ length: 9 }, (_, row) => bottom + gap * (row + 1));
  }, [bottom, top]);
  const step = (right - left) / 6;
  return (
    <g aria-hidden>
      <rect
        x={left}
        y={-top}
        width={right - left}
        height={top - bottom}
        className="fill-sheet stroke-rule"
        strokeWidth={unit}
      />
      {rows.map((y) => (
        <line
          key={y}
          x1={left + step / 4}
          x2={right - step / 4}
          y1={-y}
          y2={-y}
          className="stroke-leaf"
          strokeOpacity={0.28}
          strokeWidth={unit * 5}
          strokeLinecap="round"
          strokeDasharray={`0 ${unit * 14}`}
        />
      ))}
      {Array.from({ length: 7 }, (_, at) => left + step * at).map((x) => (
        <text
          key={x}
          x={x}
          y={-bottom + unit * 16}
          fontSize={unit * 11}
          textAnchor="middle"
          className="fill-faint"
        >
          {x.toFixed(0)}
          {x === right ? ` ${surface.unit}` : ""}
        </text>
      ))}
    </g>
  );
}

/** What a mark stands for, in a shape as well as a colour. */
function Sign({ what, isSelected }: { what: string; isSelected: boolean }) {
  const shapes: Record<string, [string, string]> = {
    ladder: ["M-4 -10 V10 M4 -10 V10 M-4 -5 H4 M-4 0 H4 M-4 5 H4", "stroke-slate"],
    crates: ["M-8 -6 H8 V7 H-8 Z M-8 0 H8", "stroke-leaf"],
    crew: ["M0 -8 a4 4 0 1 1 -0.1 0 M-8 9 a8 7 0 0 1 16 0", "stroke-ink"],
    hazard: ["M0 -9 L9 8 H-9 Z M0 -3 V3 M0 5.5 V6", "stroke-brick"],
  };
  const [path, colour] = shapes[what] ?? ["M-6 -6 H6 V6 H-6 Z", "stroke-ink"];
  return (
    <>
      <circle
        r={12.5}
        className={isSelected ? "fill-leaf-wash stroke-leaf" : "fill-sheet stroke-rule"}
        strokeWidth={isSelected ? 2 : 1}
      />
      <path
        d={path}
        transform="scale(.8)"
        fill="none"
        className={colour}
        strokeWidth={2.2}
        strokeLinecap="round"
        strokeLinejoin="round"
      />
    </>
  );
}

/**
 * Where somebody points. It glides between what was told, since that comes some times a second
 * only.
 */
function Pointer({ one, at, unit }: { one: Participant; at: Point | undefined; unit: number }) {
  const shape = useRef<SVGGElement>(null);
  const glide = useRef<Glide>(undefined);
  const [x, y] = [at?.x, at?.y];
  useEffect(() => {
    if (x === undefined || y === undefined) {
      glide.current = undefined;
      return;
    }
    glide.current ??= new Glide({ x, y }, performance.now());
    glide.current.tell({ x, y }, performance.now());
    let frame: number | undefined;
    const draw = () => {
      const now = performance.now();
      const place = glide.current?.at(now);
      if (place !== undefined)
        shape.current?.setAttribute(
          "transform",
          `translate(${place.x} ${-place.y}) scale(${unit})`,
        );
      frame = glide.current?.isThere(now) === true ? undefined : requestAnimationFrame(draw);
    };
    draw();
    return () => {
      if (frame !== undefined) cancelAnimationFrame(frame);
    };
  }, [x, y, unit]);
  if (at === undefined) return null;
  const colour = `hsl(${one.hue} 45% var(--hue-light))`;
  return (
    <g ref={shape} aria-hidden className="pointer-events-none">
      <circle r={9} fill={colour} fillOpacity={0.2} />
      <circle r={3.5} fill={colour} className="stroke-sheet" strokeWidth={1} />
      <text
        x={12}
        y={4}
        fill={colour}
        className="stroke-sheet text-[12px] font-semibold"
        strokeWidth={3}
        style={{ paintOrder: "stroke" }}
      >
        {one.name}
      </text>
    </g>
  );
}

/** A name for a gesture that no other has. */
function named(what: string): string {
  return `${what} ${crypto.randomUUID().slice(-6)}`;
}
