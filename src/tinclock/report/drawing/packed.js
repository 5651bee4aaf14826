// JSON and numbers in one answer: four bytes with the JSON's length, the JSON, then the numbers, from a multiple of eight.
export function unpack(buffer) {
  const length = new DataView(buffer).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  return {head, numbers: new Float32Array(buffer, 4 + length)};
}

export function surfacesOf({head, numbers}) {
  return head.surfaces.map(one => ({...one, corners: numbers.slice(one.at, one.at + one.count)}));
}
