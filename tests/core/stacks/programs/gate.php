<?php
namespace Skerry;

class GangwayUp extends \RuntimeException {}
trait Tides {
    public function level(?array $tides) {
        return $tides->level(); // FAULT null level
    }
}
class Gate {
    use Tides;
    public function open(int $pier) {
        throw new GangwayUp("pier $pier is shut"); // FAULT throw open
    }
    public static function make(int $n) {
        if ($n < 0) throw new \InvalidArgumentException("no gate $n"); // FAULT static make
    }
    public function each(array $piers) {
        return array_map(function ($p) {
            throw new GangwayUp("berth $p"); // FAULT closure {closure}
        }, $piers);
    }
    public function divide(int $n) {
        return intdiv(1, $n);
    }
    public function wrapped() {
        try { $this->open(3); } catch (GangwayUp $e) { throw new \LogicException("not open", 7, $e); }
    }
    public function __call($name, $arguments) {
        throw new \BadMethodCallException("no $name here"); // FAULT magic __call
    }
}
function plain($x) {
    return $x % 0; // FAULT plain plain
}
$gate = new Gate;
switch ($argv[1]) {
    case "null": $gate->level(null); break;
    case "throw": $gate->open(4); break;
    case "static": Gate::make(-1); break;
    case "closure": $gate->each([1]); break;
    case "wrapped": $gate->wrapped(); break;
    case "magic": $gate->anything(1); break;
    case "plain": plain(7); break;
}
