//! `share-test`: whether two machines can work on one folder, tried by both of them.

use std::hash::{BuildHasher, Hasher, RandomState};

use serde_json::json;
use truepath_core::plan::TAKEOVER;
use truepath_exec::failure::Failure;
use truepath_exec::share::two::{ShareSeen, try_with_another};

use crate::args::ShareTestArgs;
use crate::exit_code::Exit;
use crate::lower::{Around, Screen};
use crate::show::{self, BAD, GOOD, counted};

/// Meets the other machine, and shows what the two saw of each other.
pub fn run(args: &ShareTestArgs, around: &Around) -> Result<Exit, Failure> {
    // Machines may have one name, and processes one number.
    let tag = format!("{:016x}", RandomState::new().build_hasher().finish());
    if !args.json {
        show::tell(&format!("{} waits for the same command on another machine\n", around.host));
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
        show::print(&text(args, &seen, around.out))?;
    }
    Ok(if seen.will_do() { Exit::Well } else { Exit::No })
}

fn text(args: &ShareTestArgs, seen: &ShareSeen, screen: Screen) -> String {
    let mut out = format!("{} with {}: the longest time until the other answered\n", args.folder.display(), seen.other);
    let lags = seen.lags;
    let rows = [
        ("a new file", lags.made),
        ("a file that was looked for before", lags.named),
        ("a changed file", lags.changed),
        ("a replaced file", lags.replaced),
        ("a removed file", lags.removed),
    ];
    for (what, seconds) in rows {
        out.push_str(&format!("  {what:<34} {seconds:>7.2} s\n"));
    }
    let names = counted(seen.names as i64, "name");
    if !seen.will_do() {
        let why = format!(
            "of {names} that both asked for, {} were given to both: calls would be rendered twice here. Use a folder on another file system, or `truepath parcel`",
            seen.twice
        );
        return out + &show::state(screen, BAD, why) + "\n";
    }
    out.push_str(&format!("  {names} that both asked for: none was given to both\n"));
    if seen.lost > 0 {
        out.push_str(&format!("  {} of them were given to neither: such a call waits for `takeover`\n", seen.lost));
    }
    let least = seen.takeover().max(1.0).ceil();
    let usual = TAKEOVER.as_secs();
    let words = if least > usual as f64 {
        format!("it can be shared, with [run] takeover = \"{least}s\" or more")
    } else {
        format!("it can be shared. The usual takeover of {usual} s is enough; it may be {least} s here")
    };
    out + &show::state(screen, GOOD, words) + "\n"
}
