//! What is said about devices.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// `lantern ports`
#[derive(Debug, Args)]
pub struct PortsArguments {
    /// The file of rules whose devices are looked for; the person's own, if there is one.
    pub file: Option<PathBuf>,
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}

/// `lantern standin`
#[derive(Debug, Args)]
pub struct StandinArguments {
    /// What to be.
    #[command(subcommand)]
    pub command: StandinCommand,
}

/// Devices that can be stood in for.
#[derive(Debug, Subcommand)]
pub enum StandinCommand {
    /// A fan controller with a web interface: zones, each on or off, at a level.
    #[command(
        after_help = "Example:\n  lantern standin fans --port 4710\n\nIts page is at http://127.0.0.1:4710. `PUT /zones/saw/fan` takes on, off or toggle,\n`PUT /zones/saw/level` a number up to 100, `GET /state` gives everything as JSON."
    )]
    Fans(FansArguments),
    /// A pedal board on a serial port, whose contacts bounce.
    #[command(
        after_help = "Example:\n  printf 'left\\nright\\n' | lantern standin pedals --link pedals\n\nEach line of standard input is a pedal that is pressed: it sends its name, several times over.\n`unplug` pulls the board out, `plug` puts it back, `raw TEXT` sends TEXT once, with \\r \\n in it.\nWhat it is sent is printed."
    )]
    Pedals(PedalsArguments),
}

/// `lantern standin fans`
#[derive(Debug, Args)]
pub struct FansArguments {
    /// The port to listen on, of this machine only; 0 for any that is free.
    #[arg(long, value_name = "PORT", default_value_t = 4710)]
    pub port: u16,
    /// The zones it has.
    #[arg(long, value_name = "NAME", value_delimiter = ',', default_values = ["saw", "hall", "store"])]
    pub zones: Vec<String>,
}

/// `lantern standin pedals`
#[derive(Debug, Args)]
pub struct PedalsArguments {
    /// A name for the port beside the one it happens to get; removed at the end.
    #[arg(long, value_name = "PATH")]
    pub link: Option<PathBuf>,
    /// How many lines one press sends.
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub bounce: u32,
}
