// The same in Rust, behind the C calling convention.
#[no_mangle]
pub unsafe extern "C" fn feet_rust(levels: *const i16, feet: *mut i32, n: i32) {
    for i in 0..n.max(0) as usize {
        *feet.add(i) = *levels.add(i) as i32 * 215;
    }
}
