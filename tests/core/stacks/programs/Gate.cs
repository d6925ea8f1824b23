using System;
using System.Collections.Generic;
using System.Linq;
using System.Threading.Tasks;

namespace Skerry {
    public class GangwayUp : Exception {
        public GangwayUp(string m, Exception inner = null) : base(m, inner) {}
    }
    public class Box<T> {
        public string Name(T held) {
            return held.ToString(); // FAULT generic Name
        }
    }
    public class Gate {
        int[] berths = new int[3];
        public int Open(int i) {
            return berths[i]; // FAULT index Open
        }
        public void Shut(int pier) {
            throw new GangwayUp("pier " + pier + " is shut"); // FAULT throw Shut
        }
        public int Level {
            get {
                string none = null;
                return none.Length; // FAULT getter get_Level
            }
        }
        public int Lambda() {
            Func<int, int> f = x => {
                return 1 / x; // FAULT lambda Lambda
            };
            return f(0);
        }
        public async Task<int> Later(int n) {
            await Task.Yield();
            throw new GangwayUp("later " + n); // FAULT async Later
        }
        public void Wrapped() {
            try { Open(9); } catch (Exception e) { throw new GangwayUp("wrapped", e); }
        }
        public static object Cast(object o) {
            return (List<int>) o; // FAULT cast Cast
        }
    }
    public static class Program {
        public static void Main(string[] a) {
            var g = new Gate();
            switch (a[0]) {
                case "generic": new Box<string>().Name(null); break;
                case "index": g.Open(7); break;
                case "throw": g.Shut(4); break;
                case "getter": Console.WriteLine(g.Level); break;
                case "lambda": g.Lambda(); break;
                case "async": g.Later(3).GetAwaiter().GetResult(); break;
                case "wrapped": g.Wrapped(); break;
                case "cast": Gate.Cast("x"); break;
            }
        }
    }
}
