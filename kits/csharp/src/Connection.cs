using System;
using System.Collections.Generic;
using System.Linq;

namespace TinClock.Kit
{
    /// <summary>One client's conversation with the server: join, clock, numbered claims that are repeated until answered.</summary>
    public sealed class Connection
    {
        const double JoinAgainS = 0.25;
        const int MaxRepeats = 8;
        static readonly HashSet<string> WithView = new HashSet<string> { "shot", "launch", "melee", "trigger", "move" };

        sealed class Waiting { public Fields Claim; public double SentAt; public int Times; }

        readonly RoundTrip trip = new RoundTrip();
        readonly Action<byte[]> send;
        readonly Func<double> now;
        readonly Fields digests;
        readonly SortedDictionary<int, Waiting> waiting = new SortedDictionary<int, Waiting>();
        int sequence;
        bool joined;
        double joinSentAt = double.NegativeInfinity;

        public int Entity { get; private set; }
        /// <summary>The key of this client's spread: see <see cref="SpreadStream"/>.</summary>
        public byte[] SpreadKey { get; private set; }
        public bool SameRules { get; private set; }
        public Fields State { get; private set; }

        /// <summary>The join was answered; the whole message.</summary>
        public event Action<Fields> Joined;
        /// <summary>A claim (null: one that was answered before) and its receipt.</summary>
        public event Action<Fields, Fields> Answered;
        public event Action<Fields> Changed;
        /// <summary>A message of the game's own came from the server.</summary>
        public event Action<object> GameMessage;
        /// <summary>A claim got no receipt although it was repeated eight times: the server may never have had it.</summary>
        public event Action<Fields> Dropped;
        /// <summary>True for a transport that loses nothing: nothing is sent twice.</summary>
        public bool IsReliable { get; set; }
        /// <summary>What draws the frames: claims that carry a view get the one of the frame on the screen by themselves.</summary>
        public Playout Playout { get; set; }

        /// <param name="send">puts bytes on the line, whatever it is</param>
        /// <param name="now">this client's own clock, seconds, which never runs back</param>
        /// <param name="digests">of the client's bundle, so that the server can say whether both go by the same rules</param>
        public Connection(Action<byte[]> send, Func<double> now, Fields digests = null)
        {
            this.send = send;
            this.now = now;
            this.digests = digests ?? new Fields();
        }

        /// <summary>Call it every frame or so: sends the join until it is answered, and claims that were lost again.</summary>
        public void Step()
        {
            var time = now();
            if (!joined)
            {
                PutJoin(IsReliable ? double.PositiveInfinity : JoinAgainS);
                return;
            }
            if (IsReliable) return;
            foreach (var pair in waiting.ToList())
            {
                var one = pair.Value;
                if (time - one.SentAt < trip.WaitS(one.Times)) continue;
                if (one.Times >= MaxRepeats) { waiting.Remove(pair.Key); Dropped?.Invoke(one.Claim); continue; }
                one.SentAt = time;
                one.Times += 1;
                Put(one.Claim);
            }
        }

        /// <summary>Number a claim and send it; returns its number. Moves come all the time: they aren't repeated.</summary>
        public int Claim(Fields claim, int actor = 0)
        {
            if (!joined) throw new InvalidOperationException("claims come after the join was answered");
            if (Playout?.Drawn != null && WithView.Contains(claim.Text("kind")) && !claim.Has("view"))
                claim = claim.With(("view", Playout.Drawn.Value.ToList()));
            var numbered = claim.With(("sequence", (long)++sequence), ("actor", (long)(actor == 0 ? Entity : actor)));
            if (claim.Text("kind") != "move") waiting[sequence] = new Waiting { Claim = numbered, SentAt = now() };
            Put(numbered);
            return sequence;
        }

        /// <summary>What the screen is drawing, a few times a second, from a client that doesn't say it in its moves.</summary>
        public void ReportView(View view) => Put(new Fields
        {
            { "kind", "view_report" }, { "from_tick", (long)view.FromTick }, { "to_tick", (long)view.ToTick },
            { "fraction", view.Fraction }, { "client_time", now() },
        });

        /// <summary>Send a message of the game's own, such as chat; it is not repeated.</summary>
        public void SendGame(object body) => Put(new Fields { { "kind", "game" }, { "body", body } });

        /// <summary>Take bytes that came. What is no message of the server's is left to the game: returns whether it was one.</summary>
        public bool Receive(byte[] bytes)
        {
            var message = Packed.Read(bytes) as Fields;
            if (message == null) return false;
            switch (message.Text("kind"))
            {
                case "ping":
                    Put(new Fields { { "kind", "pong" }, { "nonce", message["nonce"] }, { "client_time", now() } });
                    return true;
                case "join_accepted": Join(message); return true;
                case "receipt":
                    var receipt = message.Table("receipt");
                    var number = receipt.Whole("sequence");
                    Waiting one;
                    waiting.TryGetValue(number, out one);
                    waiting.Remove(number);
                    if (one != null && one.Times == 0) trip.Took(now() - one.SentAt); // of a repeated one nobody knows which was answered
                    Answered?.Invoke(one?.Claim, receipt);
                    return true;
                case "full_state": Change(message.Table("state")); return true;
                case "events":
                    var next = State;
                    foreach (var told in message.List("events")) next = next == null ? null : Kit.State.ApplyEvent(next, (Fields)told);
                    if (next != null) Change(next);
                    else if (State != null) PutJoin(trip.WaitS(0)); // news were lost: the answer to a join holds the whole state
                    return true;
                case "game": GameMessage?.Invoke(message.ContainsKey("body") ? message["body"] : null); return true;
                case "join_refused": return true;
                default: return false;
            }
        }

        void Join(Fields message)
        {
            if (joined)
            {
                if (State == null || message.Table("state").Whole("number") > State.Whole("number")) Change(message.Table("state"));
                return;
            }
            joined = true;
            Entity = message.Whole("entity");
            SpreadKey = Bytes(message.Text("spread_key"));
            SameRules = message.Flag("same_rules");
            sequence = message.Whole("next_sequence") - 1;
            Joined?.Invoke(message);
            Change(message.Table("state"));
        }

        void PutJoin(double afterS)
        {
            if (now() - joinSentAt < afterS) return;
            joinSentAt = now();
            Put(new Fields { { "kind", "join" }, { "versions", new List<object> { 2L } }, { "digests", digests } });
        }

        void Change(Fields state) { State = state; Changed?.Invoke(state); }

        void Put(Fields message) => send(Packed.Write(message));

        /// <summary>The bytes of a text of hexadecimal digits.</summary>
        public static byte[] Bytes(string hexadecimal) =>
            Enumerable.Range(0, hexadecimal.Length / 2).Select(k => Convert.ToByte(hexadecimal.Substring(2 * k, 2), 16)).ToArray();
    }

    /// <summary>How long to wait for an answer before something is sent again, by the round trips so far (RFC 6298).</summary>
    sealed class RoundTrip
    {
        const double FirstWaitS = 0.25, LeastWaitS = 0.1, MostWaitS = 4.0, GraceS = 0.02;
        double smoothed, deviation;
        bool isKnown;

        /// <summary>Something that was sent once was answered after so many seconds.</summary>
        public void Took(double seconds)
        {
            if (isKnown)
            {
                deviation += (Math.Abs(seconds - smoothed) - deviation) / 4;
                smoothed += (seconds - smoothed) / 8;
                return;
            }
            smoothed = seconds;
            deviation = seconds / 2;
            isKnown = true;
        }

        /// <summary>Seconds to wait for an answer, twice as long after each repeat.</summary>
        public double WaitS(int repeats)
        {
            var once = isKnown ? smoothed + Math.Max(4 * deviation, GraceS) : FirstWaitS;
            return Math.Min(Math.Max(once, LeastWaitS) * Math.Pow(2, repeats), MostWaitS);
        }
    }

    /// <summary>What the client shows at once: the server's last word, and on top of it what was claimed since.</summary>
    public sealed class Prediction
    {
        struct Ahead { public int Sequence, Rounds; public Vector Way; }

        readonly List<Ahead> ahead = new List<Ahead>();
        int? magazine;
        Vector? place;
        int heard;

        public double Health { get; private set; }

        /// <summary>A move was claimed, or an input sent that the server simulates: so far from where it was, metres.</summary>
        public void Moved(int sequence, Vector way) => ahead.Add(new Ahead { Sequence = sequence, Way = way });

        /// <summary>Shots were claimed that cost so many rounds.</summary>
        public void Fired(int sequence, int rounds = 1) => ahead.Add(new Ahead { Sequence = sequence, Rounds = rounds });

        /// <summary>Where the body is shown; null before the server said a place.</summary>
        public Vector? Position => place.HasValue ? ahead.Aggregate(place.Value, (at, one) => at + one.Way) : (Vector?)null;

        /// <summary>Rounds in the magazine as shown; null where they never run out.</summary>
        public int? Rounds => magazine.HasValue ? Math.Max(0, magazine.Value - ahead.Sum(one => one.Rounds)) : (int?)null;

        /// <summary>The server put the body somewhere, or the client begins.</summary>
        public void SetPosition(Vector where)
        {
            place = where;
            for (var k = 0; k < ahead.Count; k++) ahead[k] = new Ahead { Sequence = ahead[k].Sequence, Rounds = ahead[k].Rounds };
        }

        /// <summary>A receipt came: its state is true up to its last number. An older one than was heard changes nothing.</summary>
        public void Correct(Fields receipt)
        {
            var state = receipt.Table("state");
            if (state == null || state.Whole("last_sequence") < heard) return;
            heard = state.Whole("last_sequence");
            Health = state.Number("health");
            magazine = state.Has("magazine") ? state.Whole("magazine") : (int?)null;
            place = state.Place("position") ?? place;
            var simulated = state.Has("input") ? state.Whole("input") : heard; // where the server moves the body
            ahead.RemoveAll(one => one.Sequence <= (one.Rounds > 0 ? heard : simulated));
        }
    }
}
