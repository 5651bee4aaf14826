using System;
using System.Collections.Generic;

namespace TinClock.Kit
{
    /// <summary>A message, or a table inside one: its fields by name, in the order in which they were put in.</summary>
    public sealed class Fields : Dictionary<string, object>
    {
        public Fields() { }
        public Fields(IDictionary<string, object> other) : base(other) { }

        /// <summary>A number, 0 where the field is left out.</summary>
        public double Number(string name, double otherwise = 0.0) =>
            TryGetValue(name, out var held) && held != null ? Convert.ToDouble(held) : otherwise;
        public int Whole(string name) => (int)Number(name);
        public string Text(string name) => TryGetValue(name, out var held) ? held as string ?? "" : "";
        public bool Flag(string name) => TryGetValue(name, out var held) && held is bool set && set;
        public Fields Table(string name) => TryGetValue(name, out var held) ? held as Fields : null;
        public List<object> List(string name) => TryGetValue(name, out var held) ? held as List<object> ?? new List<object>() : new List<object>();
        public bool Has(string name) => TryGetValue(name, out var held) && held != null;

        /// <summary>Three numbers, null where the field is left out.</summary>
        public Vector? Place(string name) => TryGetValue(name, out var held) && held is List<object> three ? Vector.Of(three) : (Vector?)null;

        /// <summary>The same with some fields set otherwise.</summary>
        public Fields With(params (string Name, object Value)[] changes)
        {
            var copy = new Fields(this);
            foreach (var change in changes) copy[change.Name] = change.Value;
            return copy;
        }
    }

    /// <summary>Three numbers: metres, metres a second, or a direction.</summary>
    public struct Vector
    {
        public readonly double X, Y, Z;
        public Vector(double x, double y, double z) { X = x; Y = y; Z = z; }
        public static Vector operator +(Vector a, Vector b) => new Vector(a.X + b.X, a.Y + b.Y, a.Z + b.Z);
        public static Vector operator -(Vector a, Vector b) => new Vector(a.X - b.X, a.Y - b.Y, a.Z - b.Z);
        public static Vector operator *(Vector a, double by) => new Vector(a.X * by, a.Y * by, a.Z * by);
        public double Dot(Vector b) => X * b.X + Y * b.Y + Z * b.Z;
        public double Length => Math.Sqrt(Dot(this));
        public List<object> ToList() => new List<object> { X, Y, Z };
        public static Vector Of(List<object> three) =>
            new Vector(Convert.ToDouble(three[0]), Convert.ToDouble(three[1]), Convert.ToDouble(three[2]));
    }

    /// <summary>Bytes or a text that are no message.</summary>
    public sealed class UnreadableException : Exception
    {
        public UnreadableException(string why) : base(why) { }
    }
}
