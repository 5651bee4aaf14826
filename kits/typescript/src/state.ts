/** The published state, moved on by each event. */

import type { EntityState, InFlight, LaunchEvent, PublishedEvent, State } from "./messages.js";

/** An event leaves a gap: events before it were missed. `Connection` sends its join again, whose answer holds the whole state. */
export class GapError extends Error {}

/** The state after the next event; one that the state holds already changes nothing. Throws `GapError` for a gap. */
export function applyEvent(state: State, event: PublishedEvent): State {
  if (event.number <= state.number) return state;
  if (event.number !== state.number + 1) throw new GapError(`event ${event.number} follows ${state.number}`);
  const next = { ...state, number: event.number, server_time: Math.max(state.server_time, event.server_time) };
  const { entity } = event, { entities = [], rows = [], projectiles = [] } = state;
  switch (event.kind) {
    case "joined": {
      const { rig, name = "", team = "", weapon = "", alive = false, life = 0, health = 0, armour = 0 } = event;
      next.entities = [...entities, { entity, rig, name, team, weapon, alive, life, health, armour }];
      next.rows = rows.map((row) => (row.entity === entity ? { ...row, name, team } : row));
      if (event.player && !rows.some((row) => row.entity === entity)) next.rows.push({ entity, name, team });
      return next;
    }
    case "left":
      next.entities = entities.filter((one) => one.entity !== entity);
      if (!state.keep_disconnected) next.rows = rows.filter((row) => row.entity !== entity);
      return next;
    case "launch":
      next.projectiles = [...projectiles, launched(event)];
      return next;
    case "end":
      next.projectiles = projectiles.filter((one) => one.projectile !== event.projectile);
      return next;
    case "homing":
      next.projectiles = projectiles.map((one) =>
        one.projectile === event.projectile ? { ...one, target: event.target ?? 0 } : one);
      return next;
    case "leader":
      next.leader = entity;
      return next;
    case "phase":
      next.phase = event.phase ?? "";
      return next;
    case "team":
      next.rows = rows.map((row) => (row.entity === entity ? { ...row, team: event.team ?? "" } : row));
      next.entities = entities.map((one) => (one.entity === entity ? movedOn(one, event) : one));
      return next;
    case "score":
      if (entity === 0) next.teams = { ...state.teams, [event.team ?? ""]: event.after };
      else next.rows = rows.map((row) => (row.entity === entity ? { ...row, [event.column]: event.after } : row));
      return next;
    default:
      next.entities = entities.map((one) => (one.entity === entity ? movedOn(one, event) : one));
      return next;
  }
}

/** What a launch event puts into the air. */
export function launched(event: LaunchEvent): InFlight {
  const { projectile, entity, weapon, server_time, position, velocity, motion, until, sequence = 0 } = event;
  return { projectile, entity, weapon, server_time, position, velocity, motion, until, sequence };
}

function movedOn(one: EntityState, event: PublishedEvent): EntityState {
  switch (event.kind) {
    case "spawn": return { ...one, alive: true, life: event.life ?? 0, health: event.health ?? 0, armour: 0, effects: [] };
    case "health": return { ...one, health: event.after ?? 0 };
    case "armour": return { ...one, armour: event.after ?? 0 };
    case "death": return { ...one, alive: false };
    case "weapon": return { ...one, weapon: event.weapon };
    case "team": return { ...one, team: event.team ?? "" };
    case "vehicle": return { ...one, vehicle: event.vehicle ?? 0 };
    case "stance": return { ...one, stance: event.stance ?? "" };
    case "max_health": return { ...one, max_health: event.health };
    case "counter": return { ...one, counters: { ...one.counters, [event.counter]: event.value } };
    case "control": return { ...one, controller: event.controller ?? 0 };
    case "effect": {
      const { effect: what, until = 0, amount = 0 } = event, kept = (one.effects ?? []).filter((effect) => effect.what !== what);
      const effects = [...kept, { what, until, amount }];
      return { ...one, effects: effects.sort((a, b) => (a.what < b.what ? -1 : 1)) };
    }
    default: return one;
  }
}
