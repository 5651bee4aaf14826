/** The published state, moved on by each event. */

import type { EntityState, InFlight, Motion, PublishedEvent, State, Triple } from "./messages.js";

/** An event leaves a gap: events before it were missed. Wait for the server's `whole`, or ask for it. */
export class GapError extends Error {}

/** The state after the next event; one that the state holds already changes nothing. Throws `GapError` for a gap. */
export function follow(state: State, event: PublishedEvent): State {
  if (event.number <= state.number) return state;
  if (event.number !== state.number + 1) throw new GapError(`event ${event.number} follows ${state.number}`);
  const next = { ...state, number: event.number, server_time: Math.max(state.server_time, event.server_time) };
  const { entity } = event, text = (name: string) => (event[name] as string | undefined) ?? "";
  switch (event.kind) {
    case "joined":
      next.entities = [...state.entities, { entity, rig: text("rig"), name: text("name"), team: text("team"), weapon: text("weapon") }];
      if (event.player) next.rows = [...state.rows, { entity, name: text("name"), team: text("team") }];
      return next;
    case "left":
      next.entities = state.entities.filter((one) => one.entity !== entity);
      if (!state.keep_leavers) next.rows = state.rows.filter((row) => row.entity !== entity);
      return next;
    case "launch":
      next.projectiles = [...(state.projectiles ?? []), launched(event)];
      return next;
    case "end":
      next.projectiles = (state.projectiles ?? []).filter((one) => one.projectile !== event.projectile);
      return next;
    case "guide":
      next.projectiles = (state.projectiles ?? []).map((one) =>
        one.projectile === event.projectile ? { ...one, target: (event.target as number | undefined) ?? 0 } : one);
      return next;
    case "leader":
      next.leader = entity;
      return next;
    case "score":
      if (entity === 0) next.teams = { ...state.teams, [text("team")]: event.after as number };
      else next.rows = state.rows.map((row) => (row.entity === entity ? { ...row, [text("column")]: event.after } : row));
      return next;
    default:
      next.entities = state.entities.map((one) => (one.entity === entity ? movedOn(one, event) : one));
      return next;
  }
}

/** What a launch event puts into the air. */
export function launched(event: PublishedEvent): InFlight {
  return {
    projectile: event.projectile as number, entity: event.entity, weapon: event.weapon as string,
    server_time: event.server_time, position: event.position as Triple, velocity: event.velocity as Triple,
    motion: event.motion as Motion, until: event.until as number, sequence: (event.sequence as number | undefined) ?? 0,
  };
}

function movedOn(one: EntityState, event: PublishedEvent): EntityState {
  const number = (name: string) => (event[name] as number | undefined) ?? 0;
  switch (event.kind) {
    case "spawn": return { ...one, alive: true, life: number("life"), health: number("health"), armour: 0, effects: [] };
    case "health": return { ...one, health: number("after") };
    case "armour": return { ...one, armour: number("after") };
    case "death": return { ...one, alive: false };
    case "weapon": return { ...one, weapon: event.weapon as string };
    case "control": return { ...one, controller: number("controller") };
    case "effect": {
      const what = event.effect as string, kept = (one.effects ?? []).filter((effect) => effect.what !== what);
      const effects = [...kept, { what, until: number("until"), amount: number("amount") }];
      return { ...one, effects: effects.sort((a, b) => (a.what < b.what ? -1 : 1)) };
    }
    default: return one;
  }
}
