/** MessagePack, as far as messages need it: null, booleans, numbers, text, binary, lists and maps with text keys. */

const utf8 = { in: new TextEncoder(), out: new TextDecoder("utf-8", { fatal: true }) };
const MOST_DEEP = 32;

/** Write a value. Whole numbers are written as integers, all others as 64-bit floats; undefined fields are left out. */
export function pack(value: unknown): Uint8Array {
  const out: number[] = [];
  write(out, value);
  return Uint8Array.from(out);
}

function write(out: number[], value: unknown): void {
  if (value === null || value === undefined) out.push(0xc0);
  else if (typeof value === "boolean") out.push(value ? 0xc3 : 0xc2);
  else if (typeof value === "number") writeNumber(out, value);
  else if (typeof value === "string") {
    const text = utf8.in.encode(value);
    writeHead(out, text.length, [0xa0, 32], 0xd9, 0xda, 0xdb);
    for (const byte of text) out.push(byte);
  } else if (value instanceof Uint8Array) {
    writeHead(out, value.length, [0, 0], 0xc4, 0xc5, 0xc6);
    for (const byte of value) out.push(byte);
  } else if (Array.isArray(value)) {
    writeHead(out, value.length, [0x90, 16], 0, 0xdc, 0xdd);
    for (const one of value) write(out, one);
  } else if (typeof value === "object") {
    const fields = Object.entries(value).filter(([, held]) => held !== undefined);
    writeHead(out, fields.length, [0x80, 16], 0, 0xde, 0xdf);
    for (const [name, held] of fields) {
      write(out, name);
      write(out, held);
    }
  } else throw new TypeError(`a message holds no ${typeof value}`);
}

function writeHead(out: number[], size: number, [fix, room]: [number, number], one: number, two: number, four: number): void {
  if (size < room) out.push(fix | size);
  else if (one && size < 0x100) out.push(one, size);
  else if (size < 0x10000) out.push(two, size >> 8, size & 0xff);
  else out.push(four, size >>> 24, (size >> 16) & 0xff, (size >> 8) & 0xff, size & 0xff);
}

function writeNumber(out: number[], value: number): void {
  const view = new DataView(new ArrayBuffer(8));
  const bytes = (head: number, count: number) => {
    out.push(head);
    for (let k = 0; k < count; k++) out.push(view.getUint8(k));
  };
  if (!Number.isSafeInteger(value) || Object.is(value, -0)) {
    view.setFloat64(0, value);
    bytes(0xcb, 8);
  } else if (value >= 0) {
    if (value < 0x80) out.push(value);
    else if (value < 0x100) out.push(0xcc, value);
    else if (value < 0x10000) (view.setUint16(0, value), bytes(0xcd, 2));
    else if (value < 0x100000000) (view.setUint32(0, value), bytes(0xce, 4));
    else (view.setBigUint64(0, BigInt(value)), bytes(0xcf, 8));
  } else if (value >= -0x20) out.push(value & 0xff);
  else if (value >= -0x80) out.push(0xd0, value & 0xff);
  else if (value >= -0x8000) (view.setInt16(0, value), bytes(0xd1, 2));
  else if (value >= -0x80000000) (view.setInt32(0, value), bytes(0xd2, 4));
  else (view.setBigInt64(0, BigInt(value)), bytes(0xd3, 8));
}

/** Read a value. Throws `RangeError` for bytes that are none, or too few, or too many. */
export function unpack(bytes: Uint8Array): unknown {
  const reader = new Reader(bytes);
  const value = reader.read(0);
  if (reader.at !== bytes.length) throw new RangeError(`${bytes.length - reader.at} bytes are left over`);
  return value;
}

class Reader {
  at = 0;
  private readonly view: DataView;
  constructor(private readonly bytes: Uint8Array) {
    this.view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  }

  private take(count: number): number {
    const at = this.at;
    if (at + count > this.bytes.length) throw new RangeError("the message ends in the middle of a value");
    this.at += count;
    return at;
  }

  read(deep: number): unknown {
    if (deep > MOST_DEEP) throw new RangeError("the message is nested too deep");
    const head = this.view.getUint8(this.take(1));
    if (head < 0x80) return head;
    if (head < 0x90) return this.map(head & 15, deep);
    if (head < 0xa0) return this.list(head & 15, deep);
    if (head < 0xc0) return this.text(head & 31);
    if (head >= 0xe0) return head - 0x100;
    switch (head) {
      case 0xc0: return null;
      case 0xc2: return false;
      case 0xc3: return true;
      case 0xc4: return this.binary(this.view.getUint8(this.take(1)));
      case 0xc5: return this.binary(this.view.getUint16(this.take(2)));
      case 0xc6: return this.binary(this.view.getUint32(this.take(4)));
      case 0xca: return this.view.getFloat32(this.take(4));
      case 0xcb: return this.view.getFloat64(this.take(8));
      case 0xcc: return this.view.getUint8(this.take(1));
      case 0xcd: return this.view.getUint16(this.take(2));
      case 0xce: return this.view.getUint32(this.take(4));
      case 0xcf: return Number(this.view.getBigUint64(this.take(8)));
      case 0xd0: return this.view.getInt8(this.take(1));
      case 0xd1: return this.view.getInt16(this.take(2));
      case 0xd2: return this.view.getInt32(this.take(4));
      case 0xd3: return Number(this.view.getBigInt64(this.take(8)));
      case 0xd9: return this.text(this.view.getUint8(this.take(1)));
      case 0xda: return this.text(this.view.getUint16(this.take(2)));
      case 0xdb: return this.text(this.view.getUint32(this.take(4)));
      case 0xdc: return this.list(this.view.getUint16(this.take(2)), deep);
      case 0xdd: return this.list(this.view.getUint32(this.take(4)), deep);
      case 0xde: return this.map(this.view.getUint16(this.take(2)), deep);
      case 0xdf: return this.map(this.view.getUint32(this.take(4)), deep);
      default: throw new RangeError(`no message holds a value of type 0x${head.toString(16)}`);
    }
  }

  private text(size: number): string {
    const at = this.take(size);
    return utf8.out.decode(this.bytes.subarray(at, at + size));
  }

  private binary(size: number): Uint8Array {
    const at = this.take(size);
    return this.bytes.slice(at, at + size);
  }

  private list(size: number, deep: number): unknown[] {
    if (size > this.bytes.length - this.at) throw new RangeError("the message ends in the middle of a list");
    return Array.from({ length: size }, () => this.read(deep + 1));
  }

  private map(size: number, deep: number): Record<string, unknown> {
    const out: Record<string, unknown> = {};
    for (let k = 0; k < size; k++) {
      const key = this.read(deep + 1), name = typeof key === "number" ? String(key) : key; // a game's own may count
      if (typeof name !== "string") throw new RangeError("a field's name is no text");
      Object.defineProperty(out, name, { value: this.read(deep + 1), enumerable: true, writable: true, configurable: true });
    }
    return out;
  }
}
