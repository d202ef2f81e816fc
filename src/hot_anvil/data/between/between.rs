// The test of the index goes where the compiler knows that it holds.

#[no_mangle]
pub fn first(levels: &[u8], wanted: u8) -> usize {
    for i in 0..levels.len() {
        if levels[i] == wanted {
            return i;
        }
    }
    levels.len()
}

#[no_mangle]
pub fn weeks(days: i32) -> i32 {
    days / 7
}
