//! The list of members of a shared cache: whoever changes it while others do loses nothing of
//! theirs.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use nubrik_shared::{KeyList, ListProblem, Member, SecretKey};
use nubrik_team::{NotChanged, change_members, members_at, put_members};
use nubrik_workspace::SharedPlace;

#[test]
fn people_who_change_a_list_at_once_lose_no_change() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().to_str().unwrap().to_owned();
    let place = SharedPlace {
        at,
        secret: None,
        endpoint: None,
        region: None,
        certificates: None,
    };
    let root = SecretKey::generate().unwrap();
    let add = |name: String| {
        let key = SecretKey::generate().unwrap().public();
        change_members(&place, &root, |list| {
            list.admit(Member {
                name: name.clone(),
                key,
                channels: Vec::new(),
            })
        })
    };
    assert!(matches!(add("early".to_owned()), Err(NotChanged::NoList)));
    put_members(
        &place,
        true,
        &KeyList {
            sequence: 1,
            ..KeyList::default()
        },
        &root,
    )
    .unwrap();
    std::thread::scope(|scope| {
        for person in 0..4 {
            let add = &add;
            scope.spawn(move || (0..10).for_each(|n| drop(add(format!("p{person}n{n}")).unwrap())));
        }
    });
    let list = members_at(&place, true, &root.public()).unwrap().unwrap();
    assert_eq!((list.members.len(), list.sequence), (40, 41));
    let nobody = change_members(&place, &root, |list| list.revoke("nobody"));
    assert!(matches!(
        nobody,
        Err(NotChanged::Problem(ListProblem::NoMember(..)))
    ));
    let other = SecretKey::generate().unwrap();
    assert!(matches!(
        change_members(&place, &other, |_| Ok(())),
        Err(NotChanged::Trouble(_))
    ));
    assert_eq!(
        members_at(&place, true, &root.public()).unwrap().unwrap(),
        list
    );
}
