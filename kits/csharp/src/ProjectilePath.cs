using System;
using System.Collections.Generic;

namespace TinClock.Kit
{
    /// <summary>A flat surface: everything at normal . p below the offset is behind it.</summary>
    public struct Plane
    {
        public readonly Vector Normal;
        public readonly double Offset;
        public Plane(Vector normal, double offset) { Normal = normal; Offset = offset; }
    }

    public struct Bounce
    {
        public double ServerTime;
        public Vector Position, Normal;
        public bool Rests;
    }

    /// <summary>The path of something launched: cubics in time, leg by leg, as the server computes them. Without drag a leg is
    /// exact; with drag it is one step of the classical fourth-order Runge-Kutta method.</summary>
    public sealed class ProjectilePath
    {
        const double LongestStepS = 1.0 / 16.0, HomingStepS = 1.0 / 256.0, Finest = 0.05, Tiny = 1e-15, SkinM = 1e-5, LookS = 1.0 / 512.0;

        sealed class Leg
        {
            public double Start, End;
            public Vector C0, C1, C2, C3;
            public bool AtRest;
            public Vector PositionAt(double t) { var s = t - Start; return C0 + (C1 + (C2 + C3 * s) * s) * s; }
            public Vector VelocityAt(double t) { var s = t - Start; return C1 + (C2 * 2.0 + C3 * (3.0 * s)) * s; }
        }

        readonly List<Leg> legs = new List<Leg>();
        readonly IList<Plane> planes;
        readonly double last, thrustEnd, radius, gravity, drag, turnRate, restitution, friction, until;
        readonly Vector push, wind;
        readonly string onLevel;
        readonly int mostBounces;
        double done;

        public readonly List<Bounce> Bounces = new List<Bounce>();
        /// <summary>When it ended at a surface or its last instant, as far as it was followed.</summary>
        public double EndedAt = double.PositiveInfinity;
        /// <summary>Where what homes is going; null for nowhere.</summary>
        public Vector? Target;

        /// <param name="motion">from the launch event</param>
        /// <param name="planes">what it meets; of other surfaces say so with <see cref="BounceOff"/></param>
        public ProjectilePath(Fields motion, double start, Vector position, Vector velocity, IList<Plane> planes = null,
                      double last = double.PositiveInfinity, Vector? target = null)
        {
            this.planes = planes ?? new Plane[0];
            this.last = last;
            Target = target;
            radius = motion.Number("radius_m");
            gravity = motion.Number("gravity_m_s2");
            drag = motion.Number("drag_per_m");
            turnRate = motion.Number("turn_deg_per_s") * Math.PI / 180.0;
            restitution = motion.Number("restitution");
            friction = motion.Number("friction");
            until = motion.Number("rest_below_m_s");
            mostBounces = motion.Whole("max_bounces");
            onLevel = motion.Has("on_level") ? motion.Text("on_level") : "end";
            wind = motion.Place("wind_m_s") ?? new Vector();
            var thrust = motion.Number("thrust_m_s2");
            push = velocity * (thrust / velocity.Length);
            thrustEnd = thrust > 0.0 ? start + motion.Number("thrust_s") : double.NegativeInfinity;
            done = start;
            legs.Add(Begin(start, position, velocity, false));
        }

        /// <summary>Place and velocity at a server time; before the launch and after the end, those there.</summary>
        public (Vector Position, Vector Velocity) At(double serverTime)
        {
            var from = Math.Max(serverTime, legs[0].Start);
            FollowTo(from);
            var t = Math.Min(from, EndedAt);
            var leg = legs.FindLast(one => one.Start <= t) ?? legs[0];
            return (leg.PositionAt(t), leg.VelocityAt(t));
        }

        /// <summary>It came off (or to rest on) a surface at a time. normal : straight off it, of unit length</summary>
        public void BounceOff(double at, Vector normal)
        {
            var leg = legs[legs.Count - 1];
            Vector position = leg.PositionAt(at), velocity = leg.VelocityAt(at);
            if (onLevel == "end" || (mostBounces > 0 && Bounces.Count >= mostBounces)) { EndedAt = at; return; }
            var off = velocity.Dot(normal);
            var back = -restitution * off;
            var rests = back < (onLevel == "stick" ? double.PositiveInfinity : until);
            Bounces.Add(new Bounce { ServerTime = at, Position = position, Normal = normal, Rests = rests });
            legs.Add(Begin(at, position + normal * SkinM, (velocity - normal * off) * (1.0 - friction) + normal * back, rests));
            done = at;
        }

        void FollowTo(double time)
        {
            while (done < time && double.IsPositiveInfinity(EndedAt))
            {
                var leg = legs[legs.Count - 1];
                if (done >= last) { EndedAt = last; return; }
                if (done >= leg.End) legs.Add(leg = Begin(leg.End, leg.PositionAt(leg.End), leg.VelocityAt(leg.End), leg.AtRest));
                var to = Math.Min(time, leg.End);
                if (leg.AtRest || !Meets(leg, done, to, out var at, out var normal)) done = to;
                else BounceOff(at, normal);
            }
        }

        bool Meets(Leg leg, double from, double to, out double at, out Vector normal)
        {
            at = double.PositiveInfinity;
            normal = new Vector();
            var pieces = Math.Max(1, (int)Math.Ceiling((to - from) / LookS));
            foreach (var plane in planes)
            {
                Func<double, double> Gap = t => plane.Normal.Dot(leg.PositionAt(t)) - plane.Offset - radius;
                for (var k = 0; k < pieces; k++)
                {
                    double low = from + (to - from) * k / pieces, high = k + 1 == pieces ? to : from + (to - from) * (k + 1) / pieces;
                    if (Gap(high) > 0.0 || plane.Normal.Dot(leg.VelocityAt(high)) >= 0.0) continue;
                    for (var step = 0; step < 60 && high - low > Tiny * Math.Abs(high); step++)
                    {
                        var middle = 0.5 * (low + high);
                        if (Gap(middle) > 0.0) low = middle; else high = middle;
                    }
                    if (high < at) { at = high; normal = plane.Normal; }
                    break;
                }
            }
            return !double.IsPositiveInfinity(at);
        }

        Vector Pull(Vector velocity, bool thrusting)
        {
            var sum = new Vector(0.0, 0.0, -gravity);
            if (thrusting) sum += push;
            if (drag > 0.0) { var air = velocity - wind; sum -= air * (drag * air.Length); }
            return sum;
        }

        Leg Begin(double t, Vector position, Vector velocity, bool atRest)
        {
            var leg = new Leg { Start = t, End = last, C0 = position, C1 = atRest ? new Vector() : velocity, AtRest = atRest };
            if (atRest) return leg;
            if (turnRate > 0.0) return Arc(leg, velocity);
            var thrusting = t < thrustEnd;
            if (thrusting) leg.End = Math.Min(leg.End, thrustEnd);
            var a = Pull(velocity, thrusting);
            if (drag == 0.0) { leg.C2 = a * 0.5; return leg; }
            var fast = drag * (velocity - wind).Length;
            var h = fast * LongestStepS <= Finest ? LongestStepS : Finest / fast;
            h = Math.Min(Math.Max(h, Tiny * Math.Abs(t)), leg.End - t);
            leg.End = t + h;
            Vector b = Pull(velocity + a * (0.5 * h), thrusting), c = Pull(velocity + b * (0.5 * h), thrusting), d = Pull(velocity + c * h, thrusting);
            var sixth = h / 6.0;
            return Cubic(leg, h, velocity, position + velocity * h + (a + b + c) * (h * sixth), velocity + (a + (b + c) * 2.0 + d) * sixth);
        }

        Leg Arc(Leg leg, Vector velocity)
        {
            var speed = velocity.Length;
            var h = Math.Min(Math.Max(HomingStepS, Tiny * Math.Abs(leg.Start)), leg.End - leg.Start);
            leg.End = leg.Start + h;
            var to = Target.HasValue ? Target.Value - leg.C0 : new Vector();
            var apart = to.Length;
            if (!(apart > 0.0 && speed > 0.0)) return leg;
            var ahead = velocity * (1.0 / speed);
            var cosine = Math.Min(1.0, Math.Max(-1.0, ahead.Dot(to) / apart));
            var aside = to * (1.0 / apart) - ahead * cosine;
            var across = aside.Length;
            if (across < 1e-12) return leg;
            var angle = Math.Min(turnRate * h, Math.Acos(cosine));
            aside = aside * (1.0 / across);
            double c = Math.Cos(angle), s = Math.Sin(angle);
            double along = angle > 1e-9 ? s / angle : 1.0, outwards = angle > 1e-9 ? (1.0 - c) / angle : 0.0;
            return Cubic(leg, h, velocity, leg.C0 + (ahead * along + aside * outwards) * (speed * h), (ahead * c + aside * s) * speed);
        }

        static Leg Cubic(Leg leg, double h, Vector velocity, Vector then, Vector velocityThen)
        {
            if (h <= 0.0) return leg;
            var way = (then - leg.C0) * (1.0 / h);
            leg.C2 = (way * 3.0 - velocity * 2.0 - velocityThen) * (1.0 / h);
            leg.C3 = (velocity + velocityThen - way * 2.0) * (1.0 / (h * h));
            return leg;
        }
    }
}
