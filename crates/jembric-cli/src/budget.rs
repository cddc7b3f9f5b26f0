//! The memory that a result may take, for commands that were given no `--memory`.

/// The bytes that a result may take: half of the machine's memory, or half of the process's limit
/// if that is less. None if the system does not report it.
pub(crate) fn budget() -> Option<u64> {
    total().map(|bytes| bytes / 2).filter(|bytes| *bytes > 0)
}

#[cfg(target_os = "linux")]
fn total() -> Option<u64> {
    let read = |file: &str| std::fs::read_to_string(file).ok();
    let system = rustix::system::sysinfo();
    let machine = (system.totalram as u64).checked_mul(system.mem_unit.into())?;
    let limit = read("/proc/self/cgroup").and_then(|groups| group_limit(&groups, read));
    Some(limit.map_or(machine, |limit| limit.min(machine)))
}

#[cfg(not(target_os = "linux"))]
fn total() -> Option<u64> {
    let mut system = sysinfo::System::new();
    system.refresh_memory();
    Some(system.total_memory())
}

/// The least memory limit of a process's control groups and of the groups that contain them.
/// `groups` is the text of `/proc/self/cgroup`, and `read` gives the text of a file. A container
/// may not see some of the containing groups: a group without a file has no limit.
///
/// The names of the files are those of the kernel's documents for cgroup version 1 and version 2.
#[cfg(target_os = "linux")]
fn group_limit(groups: &str, read: impl Fn(&str) -> Option<String>) -> Option<u64> {
    let limits = groups.lines().filter_map(|line| {
        let (_, line) = line.split_once(':')?;
        let (controllers, path) = line.split_once(':')?;
        let (root, file) = if controllers.is_empty() {
            ("/sys/fs/cgroup", "memory.max")
        } else if controllers.split(',').any(|name| name == "memory") {
            ("/sys/fs/cgroup/memory", "memory.limit_in_bytes")
        } else {
            return None;
        };
        let groups = std::path::Path::new(path).ancestors();
        let texts = groups.filter_map(|group| {
            read(&format!("{root}{}/{file}", group.display().to_string().trim_end_matches('/')))
        });
        // A group of version 2 without a limit says `max`.
        texts.filter_map(|text| text.trim().parse::<u64>().ok()).min()
    });
    limits.min()
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::no_groups("", &[], None)]
    #[case::no_limit("0::/\n", &[("/memory.max", "max\n")], None)]
    #[case::the_container("0::/\n", &[("/memory.max", "4096\n")], Some(4096))]
    #[case::a_group_in_a_group(
        "0::/crane/one\n",
        &[("/crane/memory.max", "512\n"), ("/crane/one/memory.max", "1024\n")],
        Some(512)
    )]
    #[case::only_the_inner_one(
        "0::/crane/one\n",
        &[("/crane/memory.max", "max\n"), ("/crane/one/memory.max", "1024\n")],
        Some(1024)
    )]
    #[case::a_path_from_outside("0::/../crane\n", &[("/memory.max", "2048\n")], Some(2048))]
    #[case::version_1(
        "5:devices:/\n4:cpu,memory:/crane\n0::/\n",
        &[("/memory/crane/memory.limit_in_bytes", "768\n"), ("/memory.max", "max\n")],
        Some(768)
    )]
    #[case::another_controller("3:cpu:/\n", &[("/memory/memory.limit_in_bytes", "9\n")], None)]
    fn the_least_limit_of_the_groups_counts(
        #[case] groups: &str,
        #[case] files: &[(&str, &str)],
        #[case] expected: Option<u64>,
    ) {
        let read = |file: &str| {
            let name = file.strip_prefix("/sys/fs/cgroup")?;
            files.iter().find(|(path, _)| *path == name).map(|(_, text)| (*text).to_owned())
        };
        assert_eq!(group_limit(groups, read), expected);
    }

    #[test]
    fn this_machine_reports_its_memory() {
        assert!(budget().unwrap() > 1 << 20);
    }
}
