//! What a careful person writes by hand for ten million names: the constant start copied, the number formatted, a buffer of
//! 64 KiB. The folder that all names begin with is the only argument. The bench of names compiles this with `rustc -O`.

use std::io::Write;

fn main() -> std::io::Result<()> {
    let prefix = std::env::args().nth(1).unwrap_or_default();
    let mut out = std::io::BufWriter::with_capacity(1 << 16, std::fs::File::create("/dev/null")?);
    for shot in 0..1000 {
        let head = format!("{prefix}/renders/nf{shot:05}/v001/beauty/nf{shot:05}_c1_beauty_v001.");
        let mut digits = [0u8; 20];
        for frame in 1..=10_000u32 {
            let (mut at, mut rest) = (20, frame);
            while rest > 0 || at > 16 {
                at -= 1;
                digits[at] = b'0' + (rest % 10) as u8;
                rest /= 10;
            }
            out.write_all(head.as_bytes())?;
            out.write_all(&digits[at..])?;
            out.write_all(b".exr\n")?;
        }
    }
    out.flush()
}
