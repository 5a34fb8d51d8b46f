//! Which system calls confined commands may not do, as a table of rules, and the programs that the
//! kernel runs for it (seccomp, classic BPF over `struct seccomp_data`).
//!
//! The table is what there is to read: a row says which call, under which conditions, and why.
//! `tests/filters.rs` tries each row on the kernel that it runs on.

use std::sync::OnceLock;

// Instructions (`linux/bpf_common.h`) and answers (`linux/seccomp.h`).
const LOAD_WORD: u16 = 0x20;
const AND: u16 = 0x54;
const JUMP_EQUAL: u16 = 0x15;
const JUMP_AT_LEAST: u16 = 0x35;
const RETURN: u16 = 0x06;
const ALLOW: u32 = 0x7fff_0000;
const REFUSE: u32 = 0x0005_0000;
const HAND_OVER: u32 = 0x7fc0_0000;

// Places in `struct seccomp_data`.
const OFFSET_NUMBER: u32 = 0;
const OFFSET_ARCHITECTURE: u32 = 4;
const OFFSET_ARGUMENTS: u32 = 16;

#[cfg(target_arch = "x86_64")]
pub(crate) const ARCHITECTURE: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
pub(crate) const ARCHITECTURE: u32 = 0xc000_00b7;
#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
pub(crate) const ARCHITECTURE: u32 = 0;

/// Something that must hold of an argument: of its lower half, the bits in `mask` are `equal` to a
/// value, or not.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Condition {
    argument: u32,
    mask: u32,
    value: u32,
    equal: bool,
}

const fn is(argument: u32, mask: u32, value: u32) -> Condition {
    Condition {
        argument,
        mask,
        value,
        equal: true,
    }
}

const fn is_not(argument: u32, mask: u32, value: u32) -> Condition {
    Condition {
        argument,
        mask,
        value,
        equal: false,
    }
}

/// For whom a rule holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum For {
    /// All confined commands.
    All,
    /// Those that have no network.
    WithoutNetwork,
    /// Those in a network of their own.
    InOwnNetwork,
    /// Those that share the numbers of processes with all others of the machine.
    AmongOthers,
    /// Those that share what processes tell each other by memory and queues with all others of the
    /// machine.
    SharingMemory,
    /// Those that only look, and change nothing of what they see.
    Lookers,
}

/// A call that is refused where all conditions hold.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Rule {
    pub call: i64,
    pub conditions: &'static [Condition],
    pub holds_for: For,
    /// The error that the caller sees.
    pub error: libc::c_int,
    /// Why, for readers of this table.
    #[allow(dead_code)]
    pub why: &'static str,
}

const fn rule(
    call: i64,
    conditions: &'static [Condition],
    holds_for: For,
    why: &'static str,
) -> Rule {
    Rule {
        call,
        conditions,
        holds_for,
        error: libc::EACCES,
        why,
    }
}

impl Rule {
    /// The same, with an error that callers know how to go on from.
    const fn with_error(self, error: libc::c_int) -> Rule {
        Rule { error, ..self }
    }
}

const MODE_BITS: u32 = 0o6000;
const ALL: u32 = u32::MAX;

const NETWORK: &str = "new sockets lead out of the sandbox; pairs of connected ones stay";
const DATAGRAMS: &str = "a pair of sockets for datagrams can be sent to any path or name";
const UNUSUAL: &str =
    "protocols that a kernel has, or loads for whoever asks, are not the same on each machine";
const TABLES: &str = "whoever is the superuser of a namespace of their own may set tables of packets, of which the kernel reads much";
const RINGS: &str = "a ring does calls that no filter sees";
const KEYS: &str = "keys of the user and the session are shared with everything that runs";
const WATCHES: &str = "it looks into the machine, not into the command's own work";
const OTHERS: &str = "it changes how processes of others run";
const QUEUES: &str = "what is left there outlives the command, and everybody sees it";
const NOTES: &str = "what is known of a file is changed by it, which path rules do not refuse";
const AS_OWNER: &str = "a user who runs such a file becomes its owner";

/// All rules.
pub(crate) const RULES: &[Rule] = &[
    rule(libc::SYS_socket, &[], For::WithoutNetwork, NETWORK),
    rule(
        libc::SYS_socket,
        &[
            is_not(0, ALL, libc::AF_INET as u32),
            is_not(0, ALL, libc::AF_INET6 as u32),
            is_not(0, ALL, libc::AF_NETLINK as u32),
        ],
        For::InOwnNetwork,
        "sockets of other families lead out of the network by a path or a name",
    ),
    rule(
        libc::SYS_socket,
        &[
            is(0, ALL, libc::AF_NETLINK as u32),
            is_not(2, ALL, libc::NETLINK_ROUTE as u32),
        ],
        For::InOwnNetwork,
        "the kernel answers about more than the network",
    )
    // As a kernel says that was built without the protocol: programs that make a user write no
    // account of that then.
    .with_error(libc::EPROTONOSUPPORT),
    rule(
        libc::SYS_socket,
        &[
            is_not(0, ALL, libc::AF_NETLINK as u32),
            is_not(1, 0xf, libc::SOCK_STREAM as u32),
            is_not(1, 0xf, libc::SOCK_DGRAM as u32),
        ],
        For::InOwnNetwork,
        UNUSUAL,
    ),
    rule(
        libc::SYS_socket,
        &[
            is_not(0, ALL, libc::AF_NETLINK as u32),
            is_not(2, ALL, 0),
            is_not(2, ALL, libc::IPPROTO_TCP as u32),
            is_not(2, ALL, libc::IPPROTO_UDP as u32),
        ],
        For::InOwnNetwork,
        UNUSUAL,
    ),
    // All options of IPv4 from 64 on are of tables, and these two of IPv6.
    rule(
        libc::SYS_setsockopt,
        &[is(1, ALL, libc::IPPROTO_IP as u32), is_not(2, !0x3f, 0)],
        For::InOwnNetwork,
        TABLES,
    ),
    rule(
        libc::SYS_setsockopt,
        &[is(1, ALL, libc::IPPROTO_IPV6 as u32), is(2, !1, 64)],
        For::InOwnNetwork,
        TABLES,
    ),
    rule(
        libc::SYS_socketpair,
        &[is(1, 0xf, libc::SOCK_DGRAM as u32)],
        For::WithoutNetwork,
        DATAGRAMS,
    ),
    rule(
        libc::SYS_socketpair,
        &[is(1, 0xf, libc::SOCK_RAW as u32)],
        For::WithoutNetwork,
        DATAGRAMS,
    ),
    rule(
        libc::SYS_socketpair,
        &[is(1, 0xf, libc::SOCK_DGRAM as u32)],
        For::InOwnNetwork,
        DATAGRAMS,
    ),
    rule(
        libc::SYS_socketpair,
        &[is(1, 0xf, libc::SOCK_RAW as u32)],
        For::InOwnNetwork,
        DATAGRAMS,
    ),
    rule(libc::SYS_io_uring_setup, &[], For::All, RINGS),
    rule(libc::SYS_keyctl, &[], For::All, KEYS),
    rule(libc::SYS_add_key, &[], For::All, KEYS),
    rule(libc::SYS_request_key, &[], For::All, KEYS),
    rule(libc::SYS_perf_event_open, &[], For::All, WATCHES),
    rule(libc::SYS_bpf, &[], For::All, WATCHES),
    rule(libc::SYS_userfaultfd, &[], For::All, WATCHES),
    rule(libc::SYS_fanotify_init, &[], For::All, WATCHES),
    rule(
        libc::SYS_fchmod,
        &[is_not(1, MODE_BITS, 0)],
        For::All,
        AS_OWNER,
    ),
    rule(
        libc::SYS_fchmodat,
        &[is_not(2, MODE_BITS, 0)],
        For::All,
        AS_OWNER,
    ),
    rule(FCHMODAT2, &[is_not(2, MODE_BITS, 0)], For::All, AS_OWNER),
    rule(
        libc::SYS_openat,
        &[
            is(2, libc::O_CREAT as u32, libc::O_CREAT as u32),
            is_not(3, MODE_BITS, 0),
        ],
        For::All,
        AS_OWNER,
    ),
    rule(
        libc::SYS_mknodat,
        &[is_not(2, MODE_BITS, 0)],
        For::All,
        AS_OWNER,
    ),
    rule(
        libc::SYS_prlimit64,
        &[is_not(0, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(
        libc::SYS_setpriority,
        &[is_not(1, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(
        libc::SYS_ioprio_set,
        &[is_not(1, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(
        libc::SYS_sched_setaffinity,
        &[is_not(0, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(
        libc::SYS_sched_setscheduler,
        &[is_not(0, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(
        libc::SYS_sched_setparam,
        &[is_not(0, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(
        libc::SYS_sched_setattr,
        &[is_not(0, ALL, 0)],
        For::AmongOthers,
        OTHERS,
    ),
    rule(libc::SYS_shmget, &[], For::SharingMemory, QUEUES),
    rule(libc::SYS_semget, &[], For::SharingMemory, QUEUES),
    rule(libc::SYS_msgget, &[], For::SharingMemory, QUEUES),
    rule(libc::SYS_mq_open, &[], For::SharingMemory, QUEUES),
    rule(libc::SYS_fchmod, &[], For::Lookers, NOTES),
    rule(libc::SYS_fchmodat, &[], For::Lookers, NOTES),
    rule(FCHMODAT2, &[], For::Lookers, NOTES),
    rule(libc::SYS_fchown, &[], For::Lookers, NOTES),
    rule(libc::SYS_fchownat, &[], For::Lookers, NOTES),
    rule(libc::SYS_utimensat, &[], For::Lookers, NOTES),
    rule(libc::SYS_setxattr, &[], For::Lookers, NOTES),
    rule(libc::SYS_lsetxattr, &[], For::Lookers, NOTES),
    rule(libc::SYS_fsetxattr, &[], For::Lookers, NOTES),
    rule(SETXATTRAT, &[], For::Lookers, NOTES),
    rule(libc::SYS_removexattr, &[], For::Lookers, NOTES),
    rule(libc::SYS_lremovexattr, &[], For::Lookers, NOTES),
    rule(libc::SYS_fremovexattr, &[], For::Lookers, NOTES),
    rule(REMOVEXATTRAT, &[], For::Lookers, NOTES),
    rule(FILE_SETATTR, &[], For::Lookers, NOTES),
];

/// Calls that newer processors' kernels no longer have.
#[cfg(target_arch = "x86_64")]
pub(crate) const OLD_RULES: &[Rule] = &[
    rule(
        libc::SYS_chmod,
        &[is_not(1, MODE_BITS, 0)],
        For::All,
        AS_OWNER,
    ),
    rule(
        libc::SYS_creat,
        &[is_not(1, MODE_BITS, 0)],
        For::All,
        AS_OWNER,
    ),
    rule(
        libc::SYS_mknod,
        &[is_not(1, MODE_BITS, 0)],
        For::All,
        AS_OWNER,
    ),
    rule(
        libc::SYS_open,
        &[
            is(1, libc::O_CREAT as u32, libc::O_CREAT as u32),
            is_not(2, MODE_BITS, 0),
        ],
        For::All,
        AS_OWNER,
    ),
    rule(libc::SYS_chmod, &[], For::Lookers, NOTES),
    rule(libc::SYS_chown, &[], For::Lookers, NOTES),
    rule(libc::SYS_lchown, &[], For::Lookers, NOTES),
    rule(libc::SYS_utime, &[], For::Lookers, NOTES),
    rule(libc::SYS_utimes, &[], For::Lookers, NOTES),
    rule(libc::SYS_futimesat, &[], For::Lookers, NOTES),
];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const OLD_RULES: &[Rule] = &[];

/// Newer than the library's list.
const FCHMODAT2: i64 = 452;
const SETXATTRAT: i64 = 463;
const REMOVEXATTRAT: i64 = 466;
const FILE_SETATTR: i64 = 469;

/// What surrounds a command, which decides what it is refused.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Surroundings {
    /// Which network it has.
    pub network: Network,
    /// Whether it has numbers of processes of its own, so that it can name no others.
    pub own_processes: bool,
    /// Whether memory and queues that processes share are its own.
    pub own_memory: bool,
    /// Whether it only looks, and changes nothing.
    pub only_looks: bool,
}

/// Which network a command has.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Network {
    /// None.
    None,
    /// One in which only it and its services are.
    Own,
    /// The machine's.
    Machine,
}

impl Surroundings {
    fn meets(self, whom: For) -> bool {
        match whom {
            For::All => true,
            For::WithoutNetwork => self.network == Network::None,
            For::InOwnNetwork => self.network == Network::Own,
            For::AmongOthers => !self.own_processes,
            For::SharingMemory => !self.own_memory,
            For::Lookers => self.only_looks,
        }
    }

    fn number(self) -> usize {
        let own = usize::from(self.own_processes) * 2 + usize::from(self.own_memory);
        (self.network as usize * 4 + own) * 2 + usize::from(self.only_looks)
    }

    /// The filter for a command in these surroundings.
    pub(crate) fn filter(self) -> &'static [libc::sock_filter] {
        static FILTERS: [OnceLock<Vec<libc::sock_filter>>; 24] = [const { OnceLock::new() }; 24];
        FILTERS[self.number()].get_or_init(|| self.compile(None, &[]))
    }

    /// The same for one whose calls are handed to a supervisor, but for those with some numbers;
    /// `watched` are those that would be refused and are handed over all the same, so that the
    /// supervisor knows.
    pub(crate) fn supervising_filter(
        self,
        harmless: &[i64],
        watched: &[i64],
    ) -> Vec<libc::sock_filter> {
        self.compile(Some(harmless), watched)
    }

    fn compile(self, harmless: Option<&[i64]>, watched: &[i64]) -> Vec<libc::sock_filter> {
        let mut program = vec![
            statement(LOAD_WORD, OFFSET_ARCHITECTURE),
            // Calls of a foreign architecture are refused whole.
            libc::sock_filter {
                code: JUMP_EQUAL,
                jt: 1,
                jf: 0,
                k: ARCHITECTURE,
            },
            statement(RETURN, REFUSE | libc::EACCES as u32),
            statement(LOAD_WORD, OFFSET_NUMBER),
            // Numbers from here on belong to a second set of the same calls.
            libc::sock_filter {
                code: JUMP_AT_LEAST,
                jt: 0,
                jf: 1,
                k: 0x4000_0000,
            },
            statement(RETURN, REFUSE | libc::EACCES as u32),
        ];
        for call in watched {
            add_rule(&mut program, *call, &[], HAND_OVER);
        }
        for rule in RULES
            .iter()
            .chain(OLD_RULES)
            .filter(|rule| self.meets(rule.holds_for))
        {
            add_rule(
                &mut program,
                rule.call,
                rule.conditions,
                REFUSE | rule.error as u32,
            );
        }
        match harmless {
            None => program.push(statement(RETURN, ALLOW)),
            Some(harmless) => add_choice(&mut program, &ranges_of(harmless)),
        }
        program
    }
}

/// Ranges of numbers, each from a first one to before another.
fn ranges_of(calls: &[i64]) -> Vec<(u32, u32)> {
    let mut calls: Vec<u32> = calls
        .iter()
        .filter_map(|call| u32::try_from(*call).ok())
        .collect();
    calls.sort_unstable();
    let mut ranges: Vec<(u32, u32)> = Vec::new();
    for call in calls {
        match ranges.last_mut() {
            Some((_, end)) if call <= *end => *end = (*end).max(call + 1),
            _ => ranges.push((call, call + 1)),
        }
    }
    ranges
}

/// Adds the end of a program in which the call's number is loaded: numbers in one of some sorted
/// ranges are allowed, all others are handed over. Halves are tried, so that a call passes few
/// comparisons.
fn add_choice(program: &mut Vec<libc::sock_filter>, ranges: &[(u32, u32)]) {
    match *ranges {
        [] => program.push(statement(RETURN, HAND_OVER)),
        [(first, end)] => {
            program.push(libc::sock_filter {
                code: JUMP_AT_LEAST,
                jt: 0,
                jf: 2,
                k: first,
            });
            program.push(libc::sock_filter {
                code: JUMP_AT_LEAST,
                jt: 1,
                jf: 0,
                k: end,
            });
            program.push(statement(RETURN, ALLOW));
            program.push(statement(RETURN, HAND_OVER));
        }
        _ => {
            let (lower, upper) = ranges.split_at(ranges.len() / 2);
            let mut below = Vec::new();
            add_choice(&mut below, lower);
            // The lower half is no longer than a jump can pass: a row takes four instructions, and
            // one for each two rows.
            let past = u8::try_from(below.len()).unwrap_or(u8::MAX);
            program.push(libc::sock_filter {
                code: JUMP_AT_LEAST,
                jt: past,
                jf: 0,
                k: upper[0].0,
            });
            program.extend(below);
            add_choice(program, upper);
        }
    }
}

const fn statement(code: u16, value: u32) -> libc::sock_filter {
    libc::sock_filter {
        code,
        jt: 0,
        jf: 0,
        k: value,
    }
}

/// Adds a rule to a program in which the call's number is loaded, and is loaded again afterwards.
fn add_rule(
    program: &mut Vec<libc::sock_filter>,
    call: i64,
    conditions: &[Condition],
    answer: u32,
) {
    let Ok(call) = u32::try_from(call) else {
        return;
    };
    if conditions.is_empty() {
        program.push(libc::sock_filter {
            code: JUMP_EQUAL,
            jt: 0,
            jf: 1,
            k: call,
        });
        program.push(statement(RETURN, answer));
        return;
    }
    // Three instructions a condition, the answer, and the number again.
    let length = conditions.len() * 3 + 2;
    program.push(libc::sock_filter {
        code: JUMP_EQUAL,
        jt: 0,
        jf: length as u8,
        k: call,
    });
    for (at, condition) in conditions.iter().enumerate() {
        // Where it does not hold: to loading the number again, after what is left and the answer.
        let out = ((conditions.len() - at - 1) * 3 + 1) as u8;
        let (jt, jf) = if condition.equal { (0, out) } else { (out, 0) };
        program.push(statement(
            LOAD_WORD,
            OFFSET_ARGUMENTS + 8 * condition.argument,
        ));
        program.push(statement(AND, condition.mask));
        program.push(libc::sock_filter {
            code: JUMP_EQUAL,
            jt,
            jf,
            k: condition.value,
        });
    }
    program.push(statement(RETURN, answer));
    program.push(statement(LOAD_WORD, OFFSET_NUMBER));
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a program answers to a call.
    fn answer(
        program: &[libc::sock_filter],
        architecture: u32,
        call: u32,
        arguments: [u32; 6],
    ) -> u32 {
        let load = |at: u32| match at {
            OFFSET_NUMBER => call,
            OFFSET_ARCHITECTURE => architecture,
            at => arguments[(at - OFFSET_ARGUMENTS) as usize / 8],
        };
        let (mut at, mut value) = (0, 0u32);
        loop {
            let step = program[at];
            at += 1;
            match step.code {
                LOAD_WORD => value = load(step.k),
                AND => value &= step.k,
                JUMP_EQUAL | JUMP_AT_LEAST => {
                    let holds = if step.code == JUMP_EQUAL {
                        value == step.k
                    } else {
                        value >= step.k
                    };
                    at += usize::from(if holds { step.jt } else { step.jf });
                }
                RETURN => return step.k,
                code => panic!("no such instruction: {code}"),
            }
        }
    }

    fn all_surroundings() -> impl Iterator<Item = Surroundings> {
        let networks = [Network::None, Network::Own, Network::Machine];
        (0..24).map(move |number| Surroundings {
            network: networks[number / 8],
            own_processes: number & 1 != 0,
            own_memory: number & 2 != 0,
            only_looks: number & 4 != 0,
        })
    }

    /// Arguments for which all conditions of a rule hold, and for each condition some for which
    /// only it does not.
    fn arguments(rule: &Rule) -> ([u32; 6], Vec<[u32; 6]>) {
        let mut held = [0; 6];
        for condition in rule.conditions {
            held[condition.argument as usize] |= match condition.equal {
                true => condition.value,
                // Something else than each of the values that it must not be.
                false => 0o7000 & condition.mask,
            };
        }
        let broken = rule.conditions.iter().map(|condition| {
            let mut arguments = held;
            let argument = &mut arguments[condition.argument as usize];
            *argument &= !condition.mask;
            *argument |= if condition.equal {
                !condition.value & condition.mask
            } else {
                condition.value
            };
            arguments
        });
        (held, broken.collect())
    }

    #[test]
    fn each_row_is_refused_exactly_where_it_holds() {
        let numbers: std::collections::HashSet<usize> =
            all_surroundings().map(Surroundings::number).collect();
        assert_eq!(numbers.len(), 24);
        for surroundings in all_surroundings() {
            let program = surroundings.filter();
            assert!(program.len() < 4096, "the kernel takes no longer ones");
            for rule in RULES.iter().chain(OLD_RULES) {
                let (held, broken) = arguments(rule);
                let call = rule.call as u32;
                let said = answer(program, ARCHITECTURE, call, held);
                if surroundings.meets(rule.holds_for) {
                    assert_eq!(
                        said,
                        REFUSE | rule.error as u32,
                        "{rule:?} {surroundings:?}"
                    );
                    for arguments in &broken {
                        let others = RULES.iter().chain(OLD_RULES).filter(|other| {
                            other.call == rule.call && surroundings.meets(other.holds_for)
                        });
                        if others.count() == 1 {
                            let said = answer(program, ARCHITECTURE, call, *arguments);
                            assert_eq!(said, ALLOW, "{rule:?} {arguments:?}");
                        }
                    }
                }
            }
            for call in [
                libc::SYS_read,
                libc::SYS_openat,
                libc::SYS_execve,
                libc::SYS_clone,
            ] {
                assert_eq!(answer(program, ARCHITECTURE, call as u32, [0; 6]), ALLOW);
            }
            let foreign = answer(program, ARCHITECTURE ^ 1, libc::SYS_read as u32, [0; 6]);
            assert_eq!(foreign, REFUSE | libc::EACCES as u32);
            assert_ne!(answer(program, ARCHITECTURE, 0x4000_0000, [0; 6]), ALLOW);
        }
    }

    #[test]
    fn a_supervisor_gets_what_is_not_refused_and_what_it_watches() {
        let surroundings = Surroundings {
            network: Network::None,
            own_processes: false,
            own_memory: false,
            only_looks: false,
        };
        let harmless: Vec<i64> = crate::calls::HARMLESS
            .iter()
            .chain(crate::calls::OLD_HARMLESS)
            .copied()
            .collect();
        assert!(
            ranges_of(&harmless).len() < 100,
            "a jump reaches no farther"
        );
        let program = surroundings.supervising_filter(&harmless, &[libc::SYS_socket]);
        let said = |call: i64, arguments| answer(&program, ARCHITECTURE, call as u32, arguments);
        assert_eq!(said(libc::SYS_openat, [0; 6]), HAND_OVER);
        assert_eq!(said(libc::SYS_unlinkat, [0; 6]), HAND_OVER);
        assert_eq!(said(libc::SYS_socket, [0; 6]), HAND_OVER);
        let setuid = [0, 0, libc::O_CREAT as u32, 0o4755, 0, 0];
        assert_eq!(said(libc::SYS_openat, setuid), REFUSE | libc::EACCES as u32);
        let refused: Vec<i64> = RULES
            .iter()
            .chain(OLD_RULES)
            .map(|rule| rule.call)
            .collect();
        for call in (0..600).filter(|call| !refused.contains(call)) {
            let expected = if harmless.contains(&call) {
                ALLOW
            } else {
                HAND_OVER
            };
            assert_eq!(said(call, [0; 6]), expected, "{call}");
        }
    }
}
