#[inline(never)]
fn turned(out: &mut [i32], a: &[i32], b: &[i32], n: usize) {
    for i in 0..n {
        out[i] = a[n - 1 - i] ^ b[n - 1 - i];
    }
}

#[no_mangle]
pub extern "C" fn both(out: *mut i32, a: *const i32, b: *const i32, n: usize) {
    let (a, b) = unsafe { (core::slice::from_raw_parts(a, n), core::slice::from_raw_parts(b, n)) };
    turned(unsafe { core::slice::from_raw_parts_mut(out, n) }, a, b, n)
}
