using System;
using System.Collections.Generic;
using System.Linq;

namespace TinClock.Kit
{
    /// <summary>The published state, moved on by each event. States and events are tables, as messages hold them.</summary>
    public static class State
    {
        /// <summary>The state after the next event; one that it holds already changes nothing; null where one is missing.</summary>
        public static Fields ApplyEvent(Fields state, Fields told)
        {
            int number = told.Whole("number"), now = state.Whole("number"), entity = told.Whole("entity");
            if (number <= now) return state;
            if (number != now + 1) return null;
            var next = state.With(("number", (long)number), ("server_time", Math.Max(state.Number("server_time"), told.Number("server_time"))));
            switch (told.Text("kind"))
            {
                case "joined":
                    var body = Named(told, entity).With(
                        ("rig", told.Text("rig")), ("weapon", told.Text("weapon")), ("alive", told.Flag("alive")),
                        ("life", (long)told.Whole("life")), ("health", told.Number("health")), ("armour", told.Number("armour")));
                    next["entities"] = state.List("entities").Append(body).ToList();
                    var known = state.List("rows").Any(row => Is(row, "entity", entity));
                    if (known) Each(next, "rows", "entity", entity, row => row.With(("name", told.Text("name")), ("team", told.Text("team"))));
                    else if (told.Flag("player")) next["rows"] = state.List("rows").Append(Named(told, entity)).ToList();
                    break;
                case "left":
                    next["entities"] = state.List("entities").Where(one => !Is(one, "entity", entity)).ToList();
                    if (!state.Flag("keep_disconnected")) next["rows"] = state.List("rows").Where(one => !Is(one, "entity", entity)).ToList();
                    break;
                case "launch":
                    next["projectiles"] = state.List("projectiles").Append(Launched(told)).ToList();
                    break;
                case "end":
                    var gone = told.Whole("projectile");
                    next["projectiles"] = state.List("projectiles").Where(one => !Is(one, "projectile", gone)).ToList();
                    break;
                case "homing":
                    Each(next, "projectiles", "projectile", told.Whole("projectile"), one => one.With(("target", (long)told.Whole("target"))));
                    break;
                case "leader":
                    next["leader"] = (long)entity;
                    break;
                case "phase":
                    next["phase"] = told.Text("phase");
                    break;
                case "team":
                    Each(next, "rows", "entity", entity, row => row.With(("team", told.Text("team"))));
                    Each(next, "entities", "entity", entity, one => one.With(("team", told.Text("team"))));
                    break;
                case "score":
                    if (entity == 0) next["teams"] = (state.Table("teams") ?? new Fields()).With((told.Text("team"), told.Number("after")));
                    else Each(next, "rows", "entity", entity, row => row.With((told.Text("column"), told.Number("after"))));
                    break;
                default:
                    Each(next, "entities", "entity", entity, one => MovedOn(one, told));
                    break;
            }
            return next;
        }

        static Fields Named(Fields told, int entity) =>
            new Fields { { "entity", (long)entity }, { "name", told.Text("name") }, { "team", told.Text("team") } };

        static bool Is(object one, string name, int value) => ((Fields)one).Whole(name) == value;

        static void Each(Fields next, string list, string name, int value, Func<Fields, Fields> change) =>
            next[list] = next.List(list).Select(one => Is(one, name, value) ? change((Fields)one) : one).ToList();

        /// <summary>What a launch event puts into the air.</summary>
        public static Fields Launched(Fields told)
        {
            var flight = new Fields();
            foreach (var name in new[] { "projectile", "entity", "weapon", "server_time", "position", "velocity", "motion", "until" })
                flight[name] = told[name];
            flight["sequence"] = (long)told.Whole("sequence");
            return flight;
        }

        static Fields MovedOn(Fields one, Fields told)
        {
            switch (told.Text("kind"))
            {
                case "spawn":
                    return one.With(("alive", true), ("life", (long)told.Whole("life")), ("health", told.Number("health")),
                                    ("armour", 0.0), ("effects", new List<object>()));
                case "health": return one.With(("health", told.Number("after")));
                case "armour": return one.With(("armour", told.Number("after")));
                case "death": return one.With(("alive", false));
                case "weapon": return one.With(("weapon", told.Text("weapon")));
                case "vehicle": return one.With(("vehicle", (long)told.Whole("vehicle")));
                case "stance": return one.With(("stance", told.Text("stance")));
                case "max_health": return one.With(("max_health", told.Number("health")));
                case "counter":
                    return one.With(("counters", (one.Table("counters") ?? new Fields()).With((told.Text("counter"), told.Number("value")))));
                case "control": return one.With(("controller", (long)told.Whole("controller")));
                case "effect":
                    var what = told.Text("effect");
                    var fresh = new Fields { { "what", what }, { "until", told.Number("until") }, { "amount", told.Number("amount") } };
                    var kept = one.List("effects").Where(held => ((Fields)held).Text("what") != what).Append(fresh);
                    return one.With(("effects", kept.OrderBy(held => ((Fields)held).Text("what"), StringComparer.Ordinal).ToList()));
                default: return one;
            }
        }
    }
}
