use std::collections::HashMap;
mod tides {
    pub struct Tide { pub level: Option<i32> }
    impl Tide {
        pub fn level(&self) -> i32 {
            self.level.unwrap() // FAULT unwrap level
        }
    }
    pub trait Turns { fn turn(&self) -> i32; }
    impl Turns for Tide {
        fn turn(&self) -> i32 {
            panic!("tide {:?}\nturned", self.level) // FAULT trait turn
        }
    }
}
use tides::{Tide, Turns};
#[inline(never)]
fn index(berths: &[i32], i: usize) -> i32 {
    berths[i] // FAULT index index
}
#[inline(never)]
fn expect(m: &HashMap<String, i32>) -> i32 {
    *m.get("eastholm").expect("no such pier") // FAULT expect expect
}
#[inline(never)]
fn result(text: &str) -> i32 {
    text.parse::<i32>().unwrap() // FAULT result result
}
#[inline(never)]
fn divide(a: i32, b: i32) -> i32 {
    a / b // FAULT divide divide
}
#[inline(never)]
fn generic<T: std::fmt::Debug>(items: Vec<T>) {
    assert!(items.is_empty(), "items {:?}", items); // FAULT generic generic
}
#[inline(never)]
fn closure(n: i32) {
    let check = |x: i32| {
        if x > 1 { panic!("berth {}", x); } // FAULT closure closure
    };
    (0..n).for_each(check);
}
fn main() {
    let a = std::env::args().nth(1).unwrap();
    match a.as_str() {
        "unwrap" => { Tide { level: None }.level(); }
        "trait" => { Tide { level: Some(3) }.turn(); }
        "index" => { index(&[1, 2], a.len()); }
        "expect" => { expect(&HashMap::new()); }
        "result" => { result("x7"); }
        "divide" => { divide(1, a.len() as i32 - 6); }
        "generic" => generic(vec![1]),
        "closure" => closure(4),
        _ => { let t = std::thread::Builder::new().name("berth".into()).spawn(|| index(&[], 3)).unwrap(); t.join().ok(); }
    }
}
