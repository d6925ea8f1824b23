import java.util.*;
import java.util.concurrent.*;
import java.util.function.*;

public class Gate {
    static class GangwayUp extends RuntimeException {
        GangwayUp(String m) { super(m); }
        GangwayUp(String m, Throwable c) { super(m, c); }
    }
    interface Berth { int at(int[] berths); }
    record Pass(String name) {
        String upper() {
            return name.toUpperCase(); // FAULT null upper
        }
    }
    static class Box<T extends Comparable<T>> {
        T held;
        int compare(T other) {
            return held.compareTo(other); // FAULT generic compare
        }
    }
    int[] berths = new int[3];
    int index(int i) {
        return berths[i]; // FAULT index index
    }
    void shut(int pier) {
        throw new GangwayUp("pier " + pier + " is shut\nsince noon"); // FAULT shut shut
    }
    void lambda(List<Integer> piers) {
        piers.forEach(p -> {
            if (p > 1) throw new GangwayUp("pier " + p); // FAULT lambda lambda
        });
    }
    void anonymous() {
        Berth b = new Berth() {
            public int at(int[] berths) {
                return 1 / berths.length; // FAULT anonymous at
            }
        };
        b.at(new int[0]);
    }
    int cast(Object o) {
        return ((Integer) o) + 1; // FAULT cast cast
    }
    void cause() {
        try {
            new Pass(null).upper();
        } catch (NullPointerException e) {
            throw new GangwayUp("no pass", e);
        }
    }
    void suppressed() {
        GangwayUp up = new GangwayUp("first"); // FAULT suppressed suppressed
        up.addSuppressed(new IllegalStateException("rope"));
        throw up;
    }
    static int init(int n) {
        return 7 / n; // FAULT thread init
    }
    void thread() throws Exception {
        Thread t = new Thread(() -> init(0), "berth worker");
        t.start();
        t.join();
    }
    public static void main(String[] a) throws Exception {
        Gate g = new Gate();
        switch (a[0]) {
            case "null": new Pass(null).upper(); break;
            case "generic": new Box<String>().compare("x"); break;
            case "index": g.index(7); break;
            case "shut": g.shut(4); break;
            case "lambda": g.lambda(List.of(1, 2, 3)); break;
            case "anonymous": g.anonymous(); break;
            case "cast": g.cast("x"); break;
            case "cause": g.cause(); break;
            case "suppressed": g.suppressed(); break;
            case "thread": g.thread(); break;
        }
    }
}
