using System;
using System.Collections.Generic;
using System.IO;
using System.Text;

namespace TinClock.Kit
{
    /// <summary>MessagePack, as far as messages need it: null, booleans, numbers, text, lists and tables.</summary>
    public static class Packed
    {
        const int MostDeep = 32;
        static readonly UTF8Encoding Utf8 = new UTF8Encoding(false, true);

        /// <summary>Write a value. Whole numbers are written as integers, all others as 64-bit floats.</summary>
        public static byte[] Write(object value)
        {
            var bytes = new MemoryStream();
            Put(bytes, value);
            return bytes.ToArray();
        }

        static void Put(MemoryStream to, object value)
        {
            if (value == null) to.WriteByte(0xc0);
            else if (value is bool) to.WriteByte((bool)value ? (byte)0xc3 : (byte)0xc2);
            else if (value is double) Put(to, (double)value);
            else if (value is long || value is int) Whole(to, Convert.ToInt64(value));
            else if (value is string)
            {
                var bytes = Utf8.GetBytes((string)value);
                Head(to, bytes.Length, 0xa0, 32, 0xd9, 0xda, 0xdb);
                to.Write(bytes, 0, bytes.Length);
            }
            else if (value is List<object>)
            {
                var list = (List<object>)value;
                Head(to, list.Count, 0x90, 16, 0, 0xdc, 0xdd);
                foreach (var one in list) Put(to, one);
            }
            else if (value is Fields)
            {
                var fields = (Fields)value;
                Head(to, fields.Count, 0x80, 16, 0, 0xde, 0xdf);
                foreach (var field in fields) { Put(to, field.Key); Put(to, field.Value); }
            }
            else throw new ArgumentException("a message holds no " + value.GetType().Name);
        }

        static void Put(MemoryStream to, double number)
        {
            var isWhole = Math.Abs(number) < 9007199254740992.0 && Math.Floor(number) == number && !(number == 0.0 && 1.0 / number < 0.0);
            if (isWhole) Whole(to, (long)number);
            else Big(to, 0xcb, BitConverter.DoubleToInt64Bits(number), 8);
        }

        static void Whole(MemoryStream to, long value)
        {
            if (value >= 0)
            {
                if (value < 0x80) to.WriteByte((byte)value);
                else if (value < 0x100) Big(to, 0xcc, value, 1);
                else if (value < 0x10000) Big(to, 0xcd, value, 2);
                else if (value < 0x100000000) Big(to, 0xce, value, 4);
                else Big(to, 0xcf, value, 8);
            }
            else if (value >= -0x20) to.WriteByte((byte)value);
            else if (value >= -0x80) Big(to, 0xd0, value, 1);
            else if (value >= -0x8000) Big(to, 0xd1, value, 2);
            else if (value >= -0x80000000L) Big(to, 0xd2, value, 4);
            else Big(to, 0xd3, value, 8);
        }

        static void Big(MemoryStream to, byte head, long value, int size)
        {
            to.WriteByte(head);
            for (var k = size - 1; k >= 0; k--) to.WriteByte((byte)(value >> (8 * k)));
        }

        static void Head(MemoryStream to, int size, int fix, int room, byte one, byte two, byte four)
        {
            if (size < room) to.WriteByte((byte)(fix | size));
            else if (one != 0 && size < 0x100) Big(to, one, size, 1);
            else if (size < 0x10000) Big(to, two, size, 2);
            else Big(to, four, size, 4);
        }

        /// <summary>Read a value: numbers as double or long. Raises <see cref="UnreadableException"/> for anything else.</summary>
        public static object Read(byte[] bytes)
        {
            var at = 0;
            var value = Take(bytes, ref at, 0);
            if (at != bytes.Length) throw new UnreadableException((bytes.Length - at) + " bytes are left over");
            return value;
        }

        static long Number(byte[] bytes, ref int at, int size, bool signed = false)
        {
            if (at + size > bytes.Length) throw new UnreadableException("the message ends in the middle of a value");
            long value = signed && (bytes[at] & 0x80) != 0 ? -1 : 0;
            for (var k = 0; k < size; k++) value = (value << 8) | bytes[at++];
            return value;
        }

        static object Take(byte[] bytes, ref int at, int deep)
        {
            if (deep > MostDeep) throw new UnreadableException("the message is nested too deep");
            var head = (int)Number(bytes, ref at, 1);
            if (head < 0x80) return (long)head;
            if (head < 0x90) return Table(bytes, ref at, head & 15, deep);
            if (head < 0xa0) return List(bytes, ref at, head & 15, deep);
            if (head < 0xc0) return Text(bytes, ref at, head & 31);
            if (head >= 0xe0) return (long)head - 0x100;
            switch (head)
            {
                case 0xc0: return null;
                case 0xc2: return false;
                case 0xc3: return true;
                case 0xca: return (double)BitConverter.ToSingle(BitConverter.GetBytes((int)Number(bytes, ref at, 4)), 0);
                case 0xcb: return BitConverter.Int64BitsToDouble(Number(bytes, ref at, 8));
                case 0xcc: return Number(bytes, ref at, 1);
                case 0xcd: return Number(bytes, ref at, 2);
                case 0xce: return Number(bytes, ref at, 4);
                case 0xcf: return Number(bytes, ref at, 8);
                case 0xd0: return Number(bytes, ref at, 1, true);
                case 0xd1: return Number(bytes, ref at, 2, true);
                case 0xd2: return Number(bytes, ref at, 4, true);
                case 0xd3: return Number(bytes, ref at, 8, true);
                case 0xd9: return Text(bytes, ref at, Number(bytes, ref at, 1));
                case 0xda: return Text(bytes, ref at, Number(bytes, ref at, 2));
                case 0xdb: return Text(bytes, ref at, Number(bytes, ref at, 4));
                case 0xdc: return List(bytes, ref at, Number(bytes, ref at, 2), deep);
                case 0xdd: return List(bytes, ref at, Number(bytes, ref at, 4), deep);
                case 0xde: return Table(bytes, ref at, Number(bytes, ref at, 2), deep);
                case 0xdf: return Table(bytes, ref at, Number(bytes, ref at, 4), deep);
                default: throw new UnreadableException("no message holds a value of type 0x" + head.ToString("x"));
            }
        }

        static string Text(byte[] bytes, ref int at, long size)
        {
            if (size > bytes.Length - at) throw new UnreadableException("the message ends in the middle of a text");
            at += (int)size;
            try { return Utf8.GetString(bytes, at - (int)size, (int)size); }
            catch (DecoderFallbackException) { throw new UnreadableException("a text is no UTF-8"); }
        }

        static List<object> List(byte[] bytes, ref int at, long size, int deep)
        {
            if (size > bytes.Length - at) throw new UnreadableException("the message ends in the middle of a list");
            var list = new List<object>();
            for (long k = 0; k < size; k++) list.Add(Take(bytes, ref at, deep + 1));
            return list;
        }

        static Fields Table(byte[] bytes, ref int at, long size, int deep)
        {
            var fields = new Fields();
            for (long k = 0; k < size; k++)
            {
                var key = Take(bytes, ref at, deep + 1);
                var name = key is long ? key.ToString() : key as string; // a game's own messages may count
                if (name == null) throw new UnreadableException("a field's name is no text");
                fields[name] = Take(bytes, ref at, deep + 1);
            }
            return fields;
        }
    }
}
