using System;
using System.Collections.Generic;
using System.Text;

namespace TinClock.Kit
{
    /// <summary>Spread and recoil of one weapon in one entity's hands, from a keyed stream that the server computes too.</summary>
    public sealed class SpreadStream
    {
        const double Steep = 1e-9;
        readonly byte[] key;
        readonly string weapon;
        readonly Fields spread, recoil;
        readonly int pellets;
        double heat, lastAt;
        int row;

        /// <param name="rules">of the weapon in the client's bundle: pellets, spread, recoil</param>
        public SpreadStream(byte[] key, string weapon, Fields rules)
        {
            this.key = key;
            this.weapon = weapon;
            spread = rules.Table("spread");
            recoil = rules.Table("recoil");
            pellets = rules.Whole("pellets");
            Rest();
        }

        /// <summary>Forget earlier shots: a new life.</summary>
        public void Rest() { heat = 0.0; lastAt = double.NegativeInfinity; row = 0; }

        static double Radians(double degrees) => degrees * Math.PI / 180.0;

        /// <summary>Two evenly spread numbers in [0, 1) for one pellet (from 0) of one shot (from 1).</summary>
        public static (double, double) Draws(byte[] key, string weapon, long shot, long pellet)
        {
            var name = Encoding.UTF8.GetBytes(weapon);
            var text = new byte[name.Length + 17];
            name.CopyTo(text, 0);
            BitConverter.GetBytes(shot).CopyTo(text, name.Length + 1);
            BitConverter.GetBytes(pellet).CopyTo(text, name.Length + 9);
            var digest = Blake2b.Digest(text, key, 16);
            Func<int, double> Share = at => (BitConverter.ToUInt64(digest, at) >> 11) * (1.0 / 9007199254740992.0);
            return (Share(0), Share(8));
        }

        /// <summary>A unit direction moved by two tangents of angles, to its left and upwards.</summary>
        public static Vector Turned(Vector aim, double left, double up)
        {
            var level = Math.Sqrt(aim.X * aim.X + aim.Y * aim.Y);
            var aside = level > Steep ? new Vector(-aim.Y / level, aim.X / level, 0.0) : new Vector(0.0, 1.0, 0.0);
            var above = new Vector(-aim.Z * aside.Y, aim.Z * aside.X, aim.X * aside.Y - aim.Y * aside.X);
            var moved = aim + aside * left + above * up;
            return moved * (1.0 / moved.Length);
        }

        /// <summary>Half the angle of the cone that a shot at a time would be drawn from, radians.</summary>
        public double SpreadRad(double at, double speed)
        {
            if (spread == null) return 0.0;
            var moving = spread.Number("moving_deg") * Math.Min(1.0, speed / spread.Number("moving_at_m_s"));
            return Radians(Math.Min(spread.Number("base_deg") + moving + HeatAt(at), spread.Number("max_deg")));
        }

        double HeatAt(double at) => spread == null || heat == 0.0 ? 0.0
            : Math.Max(0.0, heat - spread.Number("recovery_deg_per_s") * Math.Max(0.0, at - lastAt));

        /// <summary>Where the pellets of a shot go, and remember it. at : seconds of one clock; shot : its number, from 1</summary>
        public List<Vector> Rays(Vector aim, double at, long shot, double speed = 0.0)
        {
            if (recoil != null)
            {
                row = at - lastAt > recoil.Number("reset_s") ? 0 : row;
                var pattern = recoil.List("pattern_deg");
                var kick = (List<object>)pattern[Math.Min(row, pattern.Count - 1)];
                row += 1;
                aim = Turned(aim, Math.Tan(Radians(Convert.ToDouble(kick[1]))), Math.Tan(Radians(Convert.ToDouble(kick[0]))));
            }
            var rays = new List<Vector>();
            var widest = SpreadRad(at, speed);
            for (var pellet = 0; pellet < pellets; pellet++) rays.Add(widest > 0.0 ? Stray(aim, widest, shot, pellet) : aim);
            if (spread != null) heat = Math.Min(HeatAt(at) + spread.Number("per_shot_deg"), spread.Number("max_deg"));
            lastAt = Math.Max(lastAt, at);
            return rays;
        }

        Vector Stray(Vector aim, double widest, long shot, int pellet)
        {
            var drawn = Draws(key, weapon, shot, pellet);
            double u = drawn.Item1, v = drawn.Item2;
            if (spread.Flag("flat")) return Turned(aim, Math.Tan(widest * (2.0 * u - 1.0)), 0.0);
            double angle = widest * Math.Sqrt(u), turn = 2.0 * Math.PI * v;
            return Turned(aim, Math.Tan(angle) * Math.Cos(turn), Math.Tan(angle) * Math.Sin(turn));
        }
    }
}
