//! `share-test`: whether two machines can work on one folder, tried by both of them.

use serde_json::json;
use truepath_exec::failure::Failure;
use truepath_exec::share::two::{Seen, try_with_another};

use crate::args::ShareTestArgs;
use crate::exit_code::Exit;
use crate::lower::Surroundings;
use crate::show::{self, counted};

/// What is waited at least before a call is taken over, where a sheet says nothing.
const USUAL: f64 = 90.0;

/// Meets the other machine, and shows what the two saw of each other.
pub fn run(args: &ShareTestArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let bytes = blake3::hash(format!("{}-{}-{}", around.host, std::process::id(), around.now().timestamp()).as_bytes());
    let tag = bytes.to_hex()[..12].to_owned();
    if !args.json {
        show::tell(&format!("waiting for the same command on another machine; it is {}\n", around.host));
    }
    let seen = try_with_another(&args.folder, (&around.host, &tag), args.wait)?;
    if args.json {
        let lags = seen.lags;
        show::print_exact(&show::json::text(&json!({
            "truepath": 1,
            "other": seen.other,
            "will_do": seen.will_do(),
            "seconds": lags,
            "names": { "asked": seen.names, "twice": seen.twice, "lost": seen.lost },
            "takeover": seen.takeover(),
        })))?;
    } else {
        show::print(&text(args, &seen))?;
    }
    Ok(if seen.will_do() { Exit::Well } else { Exit::No })
}

fn text(args: &ShareTestArgs, seen: &Seen) -> String {
    let mut out = format!("{} with {}: the longest time until the other answered\n", args.folder.display(), seen.other);
    let lags = seen.lags;
    let rows = [
        ("a new file", lags.made),
        ("one looked for", lags.named),
        ("a changed file", lags.changed),
        ("a replaced file", lags.replaced),
        ("a removed file", lags.removed),
    ];
    for (what, seconds) in rows {
        out.push_str(&format!("  {what:<16} {seconds:>8.2} s\n"));
    }
    let names = counted(seen.names as i64, "name");
    if !seen.will_do() {
        out.push_str(&format!(
            "✗ of {names} that both asked for, {} were given to both: calls would be rendered twice here. Use a folder on another file system, or `truepath parcel`\n",
            seen.twice
        ));
        return out;
    }
    out.push_str(&format!("  {names} that both asked for: none was given to both\n"));
    if seen.lost > 0 {
        out.push_str(&format!("  {} of them were given to neither: such a call waits for `takeover`\n", seen.lost));
    }
    let least = seen.takeover().max(1.0).ceil();
    if least > USUAL {
        out.push_str(&format!("✓ it can be shared, with [run] takeover = \"{least}s\" or more\n"));
    } else {
        out.push_str(&format!(
            "✓ it can be shared. The usual takeover of {USUAL} s is enough; it may be {least} s here\n"
        ));
    }
    out
}
