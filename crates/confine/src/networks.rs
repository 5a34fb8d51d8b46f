//! Networks of their own for sandboxes: in each there is the loopback, and nobody but the commands
//! that were started in it.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd, RawFd};

use rustix::net::{RecvFlags, SendFlags};

use crate::sys::{self, TemplateHandle};

/// A network in which only the commands are that were started in it.
pub struct OwnNetwork {
    network: OwnedFd,
}

impl OwnNetwork {
    pub(crate) fn new(template: &TemplateHandle) -> io::Result<OwnNetwork> {
        Ok(OwnNetwork {
            network: sys::new_network(template)?,
        })
    }

    pub(crate) fn as_fd(&self) -> BorrowedFd<'_> {
        self.network.as_fd()
    }

    pub(crate) fn descriptor(&self) -> RawFd {
        self.network.as_raw_fd()
    }
}

/// A network for the commands of one sandbox, and of another one after that if nothing was sent in
/// it: a port on which somebody was connected stays taken for a minute, and the next step would
/// find that.
pub(crate) struct Loopback {
    network: OwnNetwork,
    /// Asks the kernel about this network.
    questions: OwnedFd,
}

impl Loopback {
    /// A new one.
    ///
    /// # Errors
    /// When the kernel refuses.
    pub fn new(template: &TemplateHandle) -> io::Result<Loopback> {
        let network = OwnNetwork::new(template)?;
        let questions = sys::socket_apart(template.user(), network.as_fd(), sys::QUESTIONS)?;
        Ok(Loopback { network, questions })
    }

    pub fn network(&self) -> &OwnNetwork {
        &self.network
    }

    /// Whether nothing was sent in it so far; not where that cannot be known.
    pub fn is_untouched(&self) -> bool {
        self.packets().is_ok_and(|packets| packets == Some(0))
    }

    /// How many packets were sent in it; nothing if the kernel does not say.
    fn packets(&self) -> io::Result<Option<u64>> {
        rustix::net::send(&self.questions, &question(), SendFlags::empty())?;
        let mut answer = [0; 8 << 10];
        let (length, _) = rustix::net::recv(&self.questions, &mut answer, RecvFlags::empty())?;
        Ok(sent_packets(&answer[..length]))
    }
}

// From `linux/netlink.h`, `linux/rtnetlink.h` and `linux/if_link.h`.
const GET_LINK: u16 = 18;
const NEW_LINK: u16 = 16;
const STATISTICS: u16 = 23;
/// `struct nlmsghdr`: length, type, flags, sequence, who asks.
const HEADER: usize = 16;
/// `struct ifinfomsg`: family, type, index, flags, change.
const LINK: usize = 16;

/// "What is known of the first link?" That is the loopback in each network.
fn question() -> [u8; HEADER + LINK] {
    const A_REQUEST: u16 = 1;
    let mut question = [0; HEADER + LINK];
    question[0..4].copy_from_slice(&((HEADER + LINK) as u32).to_ne_bytes());
    question[4..6].copy_from_slice(&GET_LINK.to_ne_bytes());
    question[6..8].copy_from_slice(&A_REQUEST.to_ne_bytes());
    question[HEADER + 4..HEADER + 8].copy_from_slice(&1i32.to_ne_bytes());
    question
}

/// The number of packets sent (`rtnl_link_stats64.tx_packets`) in an answer about a link; `None` if
/// there is none.
fn sent_packets(answer: &[u8]) -> Option<u64> {
    let u16_at = |at: usize| {
        answer
            .get(at..at + 2)?
            .try_into()
            .ok()
            .map(u16::from_ne_bytes)
    };
    if u16_at(4)? != NEW_LINK {
        return None;
    }
    let mut at = HEADER + LINK;
    loop {
        let (length, kind) = (usize::from(u16_at(at)?), u16_at(at + 2)?);
        if kind == STATISTICS {
            // After the attribute's own four bytes: packets received, packets sent.
            return answer
                .get(at + 12..at + 20)?
                .try_into()
                .ok()
                .map(u64::from_ne_bytes);
        }
        // Attributes begin at multiples of four bytes.
        at += length.max(4).next_multiple_of(4);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An answer of the kernel with attributes.
    fn answer(kind: u16, attributes: &[(u16, &[u8])]) -> Vec<u8> {
        let mut bytes = vec![0; HEADER + LINK];
        bytes[4..6].copy_from_slice(&kind.to_ne_bytes());
        for (kind, value) in attributes {
            bytes.extend(((value.len() + 4) as u16).to_ne_bytes());
            bytes.extend(kind.to_ne_bytes());
            bytes.extend_from_slice(value);
            bytes.resize(bytes.len().next_multiple_of(4), 0);
        }
        bytes
    }

    #[test]
    fn packets_are_read_from_the_answer_or_not_known() {
        let statistics = [7u64, 9, 11].map(u64::to_ne_bytes).concat();
        let name: (u16, &[u8]) = (3, b"lo\0");
        let whole = answer(NEW_LINK, &[name, (STATISTICS, &statistics)]);
        assert_eq!(sent_packets(&whole), Some(9));
        assert_eq!(sent_packets(&answer(NEW_LINK, &[name])), None);
        assert_eq!(
            sent_packets(&answer(2, &[(STATISTICS, &statistics)])),
            None,
            "an error"
        );
        for cut in 0..whole.len() - 8 {
            assert_eq!(sent_packets(&whole[..cut]), None, "{cut}");
        }
        // One that says it is empty is no reason to go on for ever.
        let mut endless = answer(NEW_LINK, &[name]);
        endless[HEADER + LINK..][..2].copy_from_slice(&0u16.to_ne_bytes());
        assert_eq!(sent_packets(&endless), None);
    }
}
