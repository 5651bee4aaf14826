using System;
using System.Collections.Generic;
using System.Globalization;
using System.Text;

namespace TinClock.Kit
{
    /// <summary>JSON (RFC 8259), for rules and bundles, and for messages that are to be read by people.</summary>
    public static class Json
    {
        public static object Read(string text)
        {
            var at = 0;
            var value = Take(text, ref at, 0);
            Skip(text, ref at);
            if (at != text.Length) throw new UnreadableException("something follows the value at " + at);
            return value;
        }

        static void Skip(string text, ref int at) { while (at < text.Length && char.IsWhiteSpace(text[at])) at++; }

        static void Expect(string text, ref int at, string word)
        {
            if (string.CompareOrdinal(text, at, word, 0, word.Length) != 0) throw new UnreadableException("expected " + word + " at " + at);
            at += word.Length;
        }

        static object Take(string text, ref int at, int deep)
        {
            Skip(text, ref at);
            if (deep > 64 || at >= text.Length) throw new UnreadableException("the text ends, or is nested too deep, at " + at);
            switch (text[at])
            {
                case '{':
                    var fields = new Fields();
                    Between(text, ref at, '}', (ref int here) =>
                    {
                        Skip(text, ref here);
                        var name = Text(text, ref here);
                        Skip(text, ref here);
                        Expect(text, ref here, ":");
                        fields[name] = Take(text, ref here, deep + 1);
                    });
                    return fields;
                case '[':
                    var list = new List<object>();
                    Between(text, ref at, ']', (ref int here) => list.Add(Take(text, ref here, deep + 1)));
                    return list;
                case '"': return Text(text, ref at);
                case 't': Expect(text, ref at, "true"); return true;
                case 'f': Expect(text, ref at, "false"); return false;
                case 'n': Expect(text, ref at, "null"); return null;
            }
            var from = at;
            while (at < text.Length && "+-.eE0123456789".IndexOf(text[at]) >= 0) at++;
            var digits = text.Substring(from, at - from);
            if (long.TryParse(digits, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole)) return whole;
            if (double.TryParse(digits, NumberStyles.Float, CultureInfo.InvariantCulture, out var number)) return number;
            throw new UnreadableException("no number at " + from);
        }

        delegate void Item(ref int at);

        static void Between(string text, ref int at, char end, Item item)
        {
            at++;
            Skip(text, ref at);
            if (at < text.Length && text[at] == end) { at++; return; }
            while (true)
            {
                item(ref at);
                Skip(text, ref at);
                if (at < text.Length && text[at] == end) { at++; return; }
                Expect(text, ref at, ",");
            }
        }

        static string Text(string text, ref int at)
        {
            Expect(text, ref at, "\"");
            var out_ = new StringBuilder();
            while (at < text.Length && text[at] != '"')
            {
                if (text[at] != '\\') { out_.Append(text[at++]); continue; }
                if (++at >= text.Length) break;
                var kind = text[at++];
                var known = "\"\\/bfnrt".IndexOf(kind);
                if (known >= 0) out_.Append("\"\\/\b\f\n\r\t"[known]);
                else if (kind == 'u' && at + 4 <= text.Length) { out_.Append((char)Convert.ToInt32(text.Substring(at, 4), 16)); at += 4; }
                else throw new UnreadableException("no such escape at " + at);
            }
            Expect(text, ref at, "\"");
            return out_.ToString();
        }
    }
}
