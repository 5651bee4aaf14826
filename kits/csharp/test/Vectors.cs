// The conformance vectors in ../vectors: what the server computes, this kit computes too. Vectors.exe VECTORS
using System;
using System.Collections.Generic;
using System.IO;
using System.Linq;
using TinClock.Kit;

static class Vectors
{
    static int checks;

    static void Check(bool holds, string what)
    {
        checks++;
        if (!holds) throw new Exception(what);
    }

    static void Near(double found, double expected, double tolerance, string what) =>
        Check(Math.Abs(found - expected) <= tolerance, what + ": " + found.ToString("r") + ", expected " + expected.ToString("r"));

    static void Near(Vector found, Vector expected, double tolerance, string what)
    {
        Near(found.X, expected.X, tolerance, what + " x");
        Near(found.Y, expected.Y, tolerance, what + " y");
        Near(found.Z, expected.Z, tolerance, what + " z");
    }

    static IEnumerable<Fields> Tables(this Fields from, string name) => from.List(name).Cast<Fields>();

    static int Main(string[] arguments)
    {
        Func<string, Fields> Read = name => (Fields)Json.Read(File.ReadAllText(Path.Combine(arguments[0], name + ".json")));
        var parts = new List<KeyValuePair<string, Action>>
        {
            Part("spread", () => Spread(Read("spread"))), Part("projectile_paths", () => Flights(Read("projectile_paths"))),
            Part("views", () => Views(Read("views"))), Part("events", () => Events(Read("events"))),
            Part("messages", () => Messages(Read("messages"))), Part("connection", Talking), Part("prediction", Predicting),
        };
        var failed = 0;
        foreach (var part in parts)
        {
            checks = 0;
            try { part.Value(); Console.WriteLine("ok " + part.Key + " (" + checks + " checks)"); }
            catch (Exception error) { failed++; Console.WriteLine("FAILED " + part.Key + ": " + error.Message); }
        }
        return failed == 0 ? 0 : 1;
    }

    static KeyValuePair<string, Action> Part(string name, Action part) => new KeyValuePair<string, Action>(name, part);

    static void Spread(Fields vectors)
    {
        foreach (var weapon in vectors.Tables("weapons"))
        {
            var scatter = new SpreadStream(Connection.Bytes(weapon.Text("key")), weapon.Text("weapon"), weapon.Table("rules"));
            foreach (var shot in weapon.Tables("shots"))
            {
                var found = scatter.Rays(shot.Place("direction").Value, shot.Number("at"), shot.Whole("shot"), shot.Number("speed_m_s"));
                var rays = shot.List("rays");
                Check(found.Count == rays.Count, "pellets");
                for (var k = 0; k < rays.Count; k++)
                    Near(found[k], Vector.Of((List<object>)rays[k]), vectors.Number("tolerance"), weapon.Text("weapon") + " shot " + shot.Whole("shot"));
            }
        }
        Check(checks > 3000, "all of it");
    }

    static void Flights(Fields vectors)
    {
        var planes = vectors.Tables("planes").Select(one => new Plane(one.Place("normal").Value, one.Number("offset"))).ToArray();
        var tolerance = vectors.Number("tolerance_m");
        var number = 0;
        foreach (var one in vectors.Tables("flights"))
        {
            var name = "flight " + number++;
            var flight = new ProjectilePath(one.Table("motion"), one.Number("start"), one.Place("position").Value, one.Place("velocity").Value,
                                    planes, one.Number("last"), one.Place("target"));
            foreach (var sample in one.Tables("samples"))
            {
                var found = flight.At(sample.Number("at"));
                Near(found.Item1, sample.Place("position").Value, tolerance, name);
                Near(found.Item2, sample.Place("velocity").Value, 100.0 * tolerance, "speed of " + name);
            }
            var bounces = one.Tables("bounces").ToList();
            Check(flight.Bounces.Count == bounces.Count, "bounces of " + name);
            for (var k = 0; k < bounces.Count; k++)
            {
                Near(flight.Bounces[k].ServerTime, bounces[k].Number("server_time"), vectors.Number("tolerance_s"), "bounce of " + name);
                Check(flight.Bounces[k].Rests == bounces[k].Flag("rests"), "rest of " + name);
            }
            if (one.Has("ended_at")) Near(flight.EndedAt, one.Number("ended_at"), vectors.Number("tolerance_s"), "end of " + name);
            else Check(double.IsPositiveInfinity(flight.EndedAt), "no end of " + name);
        }
        Check(number == 200, "all of it");
    }

    static void Views(Fields vectors)
    {
        foreach (var line in vectors.Tables("lines"))
        {
            var playout = new Playout(line.Number("delay_s"));
            var arrivals = line.Tables("arrivals").ToList();
            var taken = 0;
            foreach (var asked in line.Tables("views"))
            {
                for (; taken < asked.Whole("after"); taken++)
                    playout.AddSnapshot(arrivals[taken].Whole("tick"), arrivals[taken].Number("server_time"), arrivals[taken].Number("at"));
                var found = playout.Draw(asked.Number("at"));
                var view = asked.List("view");
                Check(found.HasValue == view.Count > 0, "whether anything is drawn");
                if (!found.HasValue) continue;
                Check(found.Value.FromTick == Convert.ToInt32(view[0]) && found.Value.ToTick == Convert.ToInt32(view[1]), "snapshots");
                Near(found.Value.Fraction, Convert.ToDouble(view[2]), vectors.Number("tolerance"), "fraction");
            }
        }
    }

    /// Whether two values are the same; fields that hold what they hold by default may be left out.
    static bool Same(object a, object b)
    {
        Fields left = a as Fields, right = b as Fields;
        List<object> these = a as List<object>, those = b as List<object>;
        if (left != null && right != null)
            return left.Keys.Union(right.Keys).All(name =>
            {
                left.TryGetValue(name, out var one);
                right.TryGetValue(name, out var other);
                return Same(one, other);
            });
        if (these != null && those != null && these.Count == those.Count && these.Count > 0)
            return these.Zip(those, Same).All(same => same);
        if (Empty(a) && Empty(b)) return true;
        if ((a is long || a is double) && (b is long || b is double)) return Convert.ToDouble(a) == Convert.ToDouble(b);
        return Equals(a, b);
    }

    static bool Empty(object one) =>
        one == null || false.Equals(one) || "".Equals(one) || (one as List<object>)?.Count == 0 || (one as Fields)?.Count == 0
        || (one is long || one is double) && Convert.ToDouble(one) == 0.0;

    static void Events(Fields vectors)
    {
        foreach (var stream in vectors.Tables("streams"))
        {
            var told = stream.Tables("events").ToList();
            var now = stream.Table("state");
            var count = 0;
            foreach (var check in stream.Tables("states"))
            {
                for (; count < check.Whole("after"); count++) now = State.ApplyEvent(now, told[count]);
                Check(Same(now, check.Table("state")), "the state after " + count + " events");
            }
            Check(State.ApplyEvent(stream.Table("state"), told[1]) == null, "a gap");
            Check(State.ApplyEvent(now, told[0]) == now, "an event that is known");
        }
    }

    static void Messages(Fields vectors)
    {
        foreach (var one in vectors.Tables("messages"))
        {
            var bytes = Connection.Bytes(one.Text("packed"));
            Check(Same(Packed.Read(bytes), one.Table("message")), "reading " + one.Table("message").Text("kind"));
            Check(Packed.Write(one.Table("message")).SequenceEqual(bytes), "writing " + one.Table("message").Text("kind"));
            for (var cut = 0; cut < bytes.Length; cut++) Unreadable(bytes.Take(cut).ToArray());
        }
        foreach (var bad in new[] { new byte[] { 0xc1 }, new byte[] { 0x81, 0xc0, 1 }, new byte[] { 1, 2 }, new byte[] { 0xdd, 255, 255, 255, 255 },
                                    Enumerable.Repeat((byte)0x91, 60).ToArray(), new byte[] { 0xa2, 0xff, 0xff } }) Unreadable(bad);
    }

    static void Unreadable(byte[] bytes)
    {
        try { Packed.Read(bytes); }
        catch (UnreadableException) { checks++; return; }
        throw new Exception("read what is no message: " + BitConverter.ToString(bytes));
    }

    static void Talking()
    {
        var now = 0.0;
        var sent = new List<Fields>();
        var client = new Connection(bytes => sent.Add((Fields)Packed.Read(bytes)), () => now);
        Fields answered = null;
        client.Answered += (claim, receipt) => answered = claim;
        for (; now < 1.0; now += 0.1) client.Step();
        Check(sent.Count >= 3 && sent.All(one => one.Text("kind") == "join"), "a join is repeated");
        var body = new Fields { { "entity", 7L }, { "rig", "gardener" }, { "health", 100.0 } };
        var state = new Fields { { "number", 3L }, { "server_time", 1.0 }, { "entities", new List<object> { body } }, { "rows", new List<object>() } };
        var joined = new Fields { { "kind", "join_accepted" }, { "entity", 7L }, { "spread_key", "8f1c" }, { "next_sequence", 5L }, { "same_rules", true }, { "state", state } };
        Check(client.Receive(Packed.Write(joined)) && client.Entity == 7 && client.SpreadKey.SequenceEqual(new byte[] { 0x8f, 0x1c }), "joined");
        Check(client.Claim(new Fields { { "kind", "status" }, { "health", 3.0 } }) == 5, "claims count on");
        client.Claim(new Fields { { "kind", "move" }, { "client_time", 0.0 } });
        for (var k = 0; k < 20; k++) { now += 0.1; client.Step(); }
        Check(sent.Count(one => one.Text("kind") == "status" && one.Whole("sequence") == 5) >= 3, "a claim is repeated as it was");
        Check(sent.Count(one => one.Text("kind") == "move") == 1, "a move is not");
        client.Receive(Packed.Write(new Fields { { "kind", "receipt" }, { "receipt", new Fields { { "sequence", 5L }, { "outcome", "accepted" } } } }));
        Check(answered.Text("kind") == "status", "the claim that was answered");
        var before = sent.Count;
        for (var k = 0; k < 50; k++) { now += 0.1; client.Step(); }
        Check(sent.Count == before, "nothing is repeated after its receipt");
        Fields dropped = null;
        client.Dropped += claim => dropped = claim;
        for (var k = 0; k < 20; k++) // a slow line: 0.25 s would repeat everything
        {
            var number = client.Claim(new Fields { { "kind", "use" }, { "item", "oil_can" } });
            now += 0.6;
            client.Receive(Packed.Write(new Fields { { "kind", "receipt" }, { "receipt", new Fields { { "sequence", (long)number }, { "outcome", "accepted" } } } }));
        }
        var silent = client.Claim(new Fields { { "kind", "use" }, { "item", "oil_can" } });
        before = sent.Count;
        double began = now, first = 0.0;
        while (dropped == null)
        {
            now += 0.01;
            client.Step();
            if (first == 0.0 && sent.Count > before) first = now - began;
        }
        Check(first > 0.6 && first < 0.8, "the first repeat comes after the measured round trip");
        Check(sent.Count == before + 8 && dropped.Whole("sequence") == silent, "a claim is dropped after eight repeats, and said to be");
        client.IsReliable = true;
        client.Claim(new Fields { { "kind", "use" }, { "item", "oil_can" } });
        before = sent.Count;
        for (var k = 0; k < 50; k++) { now += 0.1; client.Step(); }
        Check(sent.Count == before, "nothing is sent twice over a transport that loses nothing");
        var playout = new Playout(0.1);
        client.Playout = playout;
        for (var tick = 0; tick <= 20; tick += 2) playout.AddSnapshot(tick, tick / 64.0, 5.0 + tick / 64.0);
        var drawn = playout.Draw(5.25).Value;
        client.Claim(new Fields { { "kind", "shot" }, { "weapon", "grit_rifle" } });
        Check(sent.Last().List("view").SequenceEqual(drawn.ToList().Select(one => (object)one)), "a claim carries the view of the frame");
        client.Receive(Packed.Write(new Fields { { "kind", "ping" }, { "nonce", 99L } }));
        Check(sent.Last().Text("kind") == "pong" && sent.Last().Number("client_time") == now, "pongs tell this clock");
        var told = new Fields { { "number", 4L }, { "kind", "health" }, { "server_time", 2.0 }, { "entity", 7L }, { "after", 80.0 } };
        client.Receive(Packed.Write(new Fields { { "kind", "events" }, { "events", new List<object> { told } } }));
        Check(((Fields)client.State.List("entities")[0]).Number("health") == 80.0, "news move the state on");
        before = sent.Count(one => one.Text("kind") == "join");
        client.Receive(Packed.Write(new Fields { { "kind", "events" }, { "events", new List<object> { told.With(("number", 9L)) } } }));
        Check(sent.Count(one => one.Text("kind") == "join") == before + 1, "a gap in the news asks for the whole state by another join");
        client.Receive(Packed.Write(joined.With(("state", state.With(("number", 9L))))));
        Check(client.State.Whole("number") == 9, "the answer to that join is the state");
        Check(!client.Receive(Packed.Write(new Fields { { "kind", "snapshot" } })), "a game's own message is left to the game");
    }

    static Fields Receipt(long last, double health, long magazine, Vector at) => new Fields { { "state", new Fields {
        { "last_sequence", last }, { "health", health }, { "magazine", magazine }, { "position", at.ToList() } } } };

    static void Predicting()
    {
        var shown = new Prediction();
        shown.SetPosition(new Vector());
        shown.Moved(1, new Vector(1, 0, 0));
        shown.Moved(2, new Vector(1, 0, 0));
        shown.Fired(3);
        shown.Moved(4, new Vector(0, 2, 0));
        Near(shown.Position.Value, new Vector(2, 2, 0), 0.0, "ahead");
        shown.Correct(Receipt(2, 60.0, 5, new Vector(1.5, 0, 0)));
        Near(shown.Position.Value, new Vector(1.5, 2, 0), 0.0, "corrected");
        Check(shown.Rounds == 4 && shown.Health == 60.0, "rounds and health");
        shown.Correct(Receipt(1, 100.0, 9, new Vector()));
        Check(shown.Health == 60.0, "an older receipt changes nothing");
        var receipt = Receipt(5, 60.0, 5, new Vector(1, 0, 0));
        ((Fields)receipt["state"]).Add("input", 1L);
        var driven = new Prediction();
        driven.SetPosition(new Vector());
        foreach (var sequence in new[] { 1, 2, 3 }) driven.Moved(sequence, new Vector(1, 0, 0));
        driven.Correct(receipt);
        Near(driven.Position.Value, new Vector(3, 0, 0), 0.0, "inputs that wait for the server");
    }
}
