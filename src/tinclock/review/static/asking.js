// Asking the server, and saying in words what it refuses.
import {surfacesOf, unpack} from "/static/drawing/packed.js";

export async function ask(path, signal) {
  const answer = await fetch(path, {signal});
  const found = await answer.json().catch(() => ({error: `the review site answered ${answer.status}`}));
  if (!answer.ok) throw new Error(found.error ?? `the review site answered ${answer.status}`);
  return found;
}

export async function askBytes(path) {
  const answer = await fetch(path);
  if (!answer.ok) throw new Error(`the review site answered ${answer.status}`);
  return answer.arrayBuffer();
}

export const matchPath = name => `/api/match/${encodeURIComponent(name)}`;

const known = new Map();  // what a match's bodies and level look like, asked once a page
export function looksOf(name) {
  if (!known.has(name)) {
    known.set(name, (async () => {
      const info = await ask(matchPath(name));
      const surfaces = info.has_level ? surfacesOf(unpack(await askBytes(`${matchPath(name)}/level`))) : [];
      return {info, surfaces};
    })());
  }
  return known.get(name);
}
