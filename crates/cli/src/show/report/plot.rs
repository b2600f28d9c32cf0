//! How long frames took, as drawings.

use maud::{Markup, html};

use super::super::progress::span;
use super::super::{clean, counted};
use super::night::{FrameTimes, Night};

/// A plot's size, and the room for its scales.
const WIDTH: f64 = 760.0;
const HEIGHT: f64 = 150.0;
const LEFT: f64 = 56.0;
const BELOW: f64 = 24.0;
/// Shapes of points, so that machines are told apart without colours.
const SHAPES: [&str; 4] = ["circle", "square", "triangle", "diamond"];
/// A frame that takes so many times the usual is slow.
const SLOW: f64 = 2.0;
/// Points of one plot at most: of more, the slowest and as many others as there is room for.
const MOST: usize = 4_000;
/// Slow frames that are named.
const NAMED: usize = 8;

pub fn times(night: &Night) -> Markup {
    if night.times.is_empty() {
        return html! {};
    }
    html! {
        section #times aria-labelledby="times-title" {
            h2 #times-title { "Times" }
            @for own in &night.times { (plot(night, own)) }
            div.wide tabindex="0" role="region" aria-label="Machines" {
                table {
                    thead { tr {
                        th scope="col" { "Machine" } th scope="col" { "Calls" } th scope="col" { "Frames" }
                        th scope="col" { "Renderers took" } th scope="col" { "A frame" }
                    } }
                    tbody {
                        @for (at, machine) in night.machines.iter().enumerate() {
                            tr {
                                th scope="row" { svg.key width="14" height="14" aria-hidden="true" { (point(at, 7.0, 7.0, false)) } " " (clean(&machine.name)) }
                                td { (machine.calls) } td { (machine.frames) } td { (span(machine.seconds)) }
                                td { @if machine.frames > 0 { (seconds(machine.seconds / machine.frames as f64)) } }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn seconds(value: f64) -> String {
    if value < 10.0 { format!("{value:.2} s") } else { span(value) }
}

/// The middle of all seconds.
fn median(points: &[(i64, f64, usize)]) -> f64 {
    let mut all: Vec<f64> = points.iter().map(|(_, seconds, _)| *seconds).collect();
    all.sort_by(f64::total_cmp);
    all.get(all.len() / 2).copied().unwrap_or(0.0)
}

fn plot(night: &Night, own: &FrameTimes) -> Markup {
    let usual = median(&own.points);
    let most = own.points.iter().map(|(_, seconds, _)| *seconds).fold(usual, f64::max).max(0.001) * 1.08;
    let first = own.points.first().map_or(0, |(frame, ..)| *frame);
    let last = own.points.last().map_or(1, |(frame, ..)| *frame);
    let x = |frame: i64| LEFT + (WIDTH - LEFT - 12.0) * (frame - first) as f64 / (last - first).max(1) as f64;
    let y = |seconds: f64| 8.0 + (HEIGHT - BELOW - 8.0) * (1.0 - seconds / most);
    let is_slow = |seconds: f64| seconds > usual * SLOW && own.points.len() > 4;
    let mut slow: Vec<&(i64, f64, usize)> = own.points.iter().filter(|(_, seconds, _)| is_slow(*seconds)).collect();
    slow.sort_by(|a, b| b.1.total_cmp(&a.1));
    let each = own.points.len().div_ceil(MOST).max(1);
    let drawn = own.points.iter().enumerate().filter(|(at, (_, seconds, _))| at % each == 0 || is_slow(*seconds));
    let named: Vec<String> =
        slow.iter().take(NAMED).map(|(frame, took, _)| format!("{frame} ({})", seconds(*took))).collect();
    let told = match slow.as_slice() {
        [] => format!("usually {} a frame, none is slow", seconds(usual)),
        all => {
            let count = counted(i64::try_from(all.len()).unwrap_or(i64::MAX), "slow frame");
            format!("usually {} a frame; {count}: {}", seconds(usual), named.join(", "))
        }
    };
    html! {
        figure.plot {
            figcaption { h3 { (clean(&own.job)) " " small { (told) } } }
            svg viewBox={ "0 0 " (WIDTH) " " (HEIGHT) } role="img" aria-label={ "Seconds a frame of " (clean(&own.job)) ": " (told) } {
                line.axis x1=(LEFT) y1="8" x2=(LEFT) y2=(HEIGHT - BELOW) {}
                line.axis x1=(LEFT) y1=(HEIGHT - BELOW) x2=(WIDTH - 12.0) y2=(HEIGHT - BELOW) {}
                line.usual x1=(LEFT) y1=(y(usual)) x2=(WIDTH - 12.0) y2=(y(usual)) {}
                text.scale x=(LEFT - 6.0) y=(y(usual) + 4.0) text-anchor="end" { (seconds(usual)) }
                @if y(most) + 12.0 < y(usual) - 12.0 {
                    text.scale x=(LEFT - 6.0) y="16" text-anchor="end" { (seconds(most)) }
                }
                text.scale x=(LEFT - 6.0) y=(HEIGHT - BELOW) text-anchor="end" { "0 s" }
                text.scale x=(LEFT) y=(HEIGHT - 8.0) { (first) }
                text.scale x=(WIDTH - 12.0) y=(HEIGHT - 8.0) text-anchor="end" { (last) }
                @for (_, (frame, took, machine)) in drawn {
                    g {
                        title { "frame " (frame) ": " (seconds(*took)) ", " (clean(&night.machines[*machine].name)) }
                        (point(*machine, x(*frame), y(*took), is_slow(*took)))
                    }
                }
            }
        }
    }
}

/// A point in the shape of its machine; a slow frame has a ring around it.
fn point(machine: usize, x: f64, y: f64, is_slow: bool) -> Markup {
    let class = format!("point machine{}", machine % SHAPES.len());
    let at = |dx: f64, dy: f64| format!("{:.1},{:.1}", x + dx, y + dy);
    html! {
        @if is_slow { circle.slow cx=(format!("{x:.1}")) cy=(format!("{y:.1}")) r="6" {} }
        @match SHAPES[machine % SHAPES.len()] {
            "square" => { rect class=(class) x=(format!("{:.1}", x - 2.5)) y=(format!("{:.1}", y - 2.5)) width="5" height="5" {} }
            "triangle" => { polygon class=(class) points={ (at(0.0, -3.5)) " " (at(3.2, 2.5)) " " (at(-3.2, 2.5)) } {} }
            "diamond" => { polygon class=(class) points={ (at(0.0, -3.6)) " " (at(3.6, 0.0)) " " (at(0.0, 3.6)) " " (at(-3.6, 0.0)) } {} }
            _ => { circle class=(class) cx=(format!("{x:.1}")) cy=(format!("{y:.1}")) r="2.6" {} }
        }
    }
}
