//! Output to a pipe whose reader may end first.

/// Ends quietly when nobody reads on, as behind `| head`; the status is that of a program that SIGPIPE ended.
pub fn end_when_nobody_reads() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        let message = panic.payload().downcast_ref::<String>().map_or("", String::as_str);
        if message.contains("Broken pipe") {
            std::process::exit(141);
        }
        usual(panic);
    }));
}
