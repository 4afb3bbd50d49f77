//! The memory that a run may use.

/// What was given to a run; without a number, three quarters of what is free.
pub fn memory_of_a_run(given: Option<u64>) -> u64 {
    given.unwrap_or_else(|| free_memory().unwrap_or(u64::MAX) / 4 * 3)
}

/// Bytes that the machine, or the control group around the process, has free.
fn free_memory() -> Option<u64> {
    let machine = std::fs::read_to_string("/proc/meminfo").ok().and_then(|text| {
        let line = text.lines().find(|l| l.starts_with("MemAvailable:"))?;
        let kilobytes: u64 = line.split_whitespace().nth(1)?.parse().ok()?;
        Some(kilobytes * 1024)
    });
    let number = |path: &str| std::fs::read_to_string(path).ok()?.trim().parse::<u64>().ok();
    let group = number("/sys/fs/cgroup/memory.max")
        .zip(number("/sys/fs/cgroup/memory.current"))
        .map(|(most, now)| most.saturating_sub(now));
    [machine, group, address_space()].into_iter().flatten().min()
}

/// Bytes that the process may still map, where `ulimit -v` bounds them.
fn address_space() -> Option<u64> {
    #[cfg(target_os = "linux")]
    {
        let limit = rustix::process::getrlimit(rustix::process::Resource::As).current?;
        let pages = std::fs::read_to_string("/proc/self/statm").ok()?;
        let mapped: u64 = pages.split_whitespace().next()?.parse().ok()?;
        Some(limit.saturating_sub(mapped * rustix::param::page_size() as u64))
    }
    #[cfg(not(target_os = "linux"))]
    None
}
