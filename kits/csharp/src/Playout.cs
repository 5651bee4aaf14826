using System.Collections.Generic;

namespace TinClock.Kit
{
    /// <summary>Two snapshots' ticks, and how far the screen is from one to the other: the view that claims carry.</summary>
    public struct View
    {
        public readonly int FromTick, ToTick;
        public readonly double Fraction;
        public View(int from, int to, double fraction) { FromTick = from; ToTick = to; Fraction = fraction; }
        public List<object> ToList() => new List<object> { (long)FromTick, (long)ToTick, Fraction };
    }

    /// <summary>Which two snapshots a screen draws between. It keeps what arrived and follows the fastest arrivals.</summary>
    public sealed class Playout
    {
        const double WindowS = 2.0;
        const int Kept = 64;
        readonly double delayS;
        readonly List<double> times = new List<double>();
        readonly List<int> ticks = new List<int>();
        readonly LinkedList<(double At, double Trip)> trips = new LinkedList<(double, double)>();

        /// <param name="delayS">how far behind the newest possible picture is drawn</param>
        public Playout(double delayS) { this.delayS = delayS; }

        /// <summary>A snapshot arrived, at a time of this client's own clock; twice or out of order is fine.</summary>
        public void AddSnapshot(int tick, double serverTime, double clientTime)
        {
            var place = times.BinarySearch(serverTime);
            if (place >= 0) return;
            times.Insert(~place, serverTime);
            ticks.Insert(~place, tick);
            var trip = clientTime - serverTime;
            while (trips.Count > 0 && trips.Last.Value.Trip >= trip) trips.RemoveLast();
            trips.AddLast((clientTime, trip));
            while (trips.First.Value.At < clientTime - WindowS) trips.RemoveFirst();
            if (times.Count > Kept) { times.RemoveAt(0); ticks.RemoveAt(0); }
        }

        /// <summary>The view of the frame on the screen: what the player aimed at. Null before the first one.</summary>
        public View? Drawn { get; private set; }

        /// <summary>
        /// Begin a frame: what to draw at a time of this client's clock; null before anything can be. Call it once for each
        /// frame: claims carry the view of the frame that was drawn last.
        /// </summary>
        public View? Draw(double clientTime) => Drawn = ViewAt(clientTime);

        View? ViewAt(double clientTime)
        {
            if (trips.Count == 0) return null;
            var at = clientTime - trips.First.Value.Trip - delayS;
            var place = times.BinarySearch(at);
            place = place >= 0 ? place + 1 : ~place;
            if (place == 0) return null;
            if (place == times.Count) return new View(ticks[place - 1], ticks[place - 1], 0.0);
            return new View(ticks[place - 1], ticks[place], (at - times[place - 1]) / (times[place] - times[place - 1]));
        }
    }
}
