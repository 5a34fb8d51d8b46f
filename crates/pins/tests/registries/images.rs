//! Pins of images: by tags that move, for several platforms, from a registry in a folder.

use nubrik_pins::{Free, Registry, Shelf};
use nubrik_testing::layouts::sha256;

use crate::shop::{Shop, shelf};

const IMAGES: Registry = Registry::Images;
const NAME: &str = "tide/base";

fn descriptor(kind: &str, bytes: &[u8], more: &str) -> String {
    format!(
        "{{\"mediaType\": \"application/vnd.oci.image.{kind}\", \"digest\": \"{}\", \"size\": {}{more}}}",
        sha256(bytes),
        bytes.len()
    )
}

/// Puts an image of two layers into a registry; gives its manifest.
fn image(shop: &Shop, architecture: &str, layer: &[u8]) -> String {
    let config = format!(
        "{{\"os\": \"linux\", \"architecture\": \"{architecture}\", \"rootfs\": {{\"diff_ids\": [\"{0}\", \"{0}\"]}}}}",
        sha256(layer)
    );
    let blob = |bytes: &[u8]| shop.put(&format!("images/v2/{NAME}/blobs/{}", sha256(bytes)), bytes);
    blob(config.as_bytes());
    blob(layer);
    let layer = descriptor("layer.v1.tar", layer, "");
    let manifest = format!(
        "{{\"schemaVersion\": 2,\n \"config\": {}, \"layers\": [{layer}, {layer}]}}\n",
        descriptor("config.v1+json", config.as_bytes(), "")
    );
    shop.put(
        &format!("images/v2/{NAME}/manifests/{}", sha256(manifest.as_bytes())),
        manifest.as_bytes(),
    );
    manifest
}

fn tagged(shop: &Shop, tag: &str, document: &str) {
    shop.put(
        &format!("images/v2/{NAME}/manifests/{tag}"),
        document.as_bytes(),
    );
}

fn asked(requirement: &str, systems: &[&str]) -> Shelf {
    shelf(IMAGES, systems, &[&format!("{NAME} {requirement}")])
}

fn version(manifest: &str) -> String {
    format!(
        "1.2-{}",
        &sha256(manifest.as_bytes())["sha256:".len()..][..12]
    )
}

const BOTH: [&str; 2] = ["linux-aarch64", "linux-x86_64"];

#[test]
fn each_system_has_its_own_image_of_a_list() {
    let shop = Shop::new();
    let (arm, amd) = (image(&shop, "arm64", b"arm"), image(&shop, "amd64", b"amd"));
    let of = |manifest: &str, architecture: &str| {
        let platform =
            format!(", \"platform\": {{\"os\": \"linux\", \"architecture\": \"{architecture}\"}}");
        descriptor("manifest.v1+json", manifest.as_bytes(), &platform)
    };
    let list = format!(
        "{{\"schemaVersion\": 2, \"manifests\": [{}, {}]}}",
        of(&arm, "arm64"),
        of(&amd, "amd64")
    );
    tagged(&shop, "1.2", &list);
    let settled = shop
        .settle(IMAGES, &asked("1.2", &BOTH), &Free::Nothing)
        .unwrap();
    let pin = |manifest: &str| &settled.pins[&format!("{NAME}@{}", version(manifest))];
    assert_eq!(
        (pin(&arm).on.as_slice(), pin(&amd).on.as_slice()),
        (&[BOTH[0].to_owned()][..], &[BOTH[1].to_owned()][..])
    );
    // Word for word: its digest is what people compare.
    assert_eq!(pin(&arm).facts["manifest"], arm);
    assert_eq!(pin(&arm).facts["digest"], sha256(arm.as_bytes()));
    // A layer that is there twice is fetched once.
    let archives = &pin(&amd).archives;
    assert_eq!(archives.len(), 2);
    let layer = archives
        .iter()
        .find(|archive| archive.digest == sha256(b"amd"))
        .unwrap();
    assert_eq!(
        (layer.path.as_str(), layer.size),
        (&*format!("{NAME}/blobs/{}", sha256(b"amd")), 3)
    );
    let missing = shop
        .settle(IMAGES, &asked("1.2", &["linux-riscv64"]), &Free::Nothing)
        .unwrap_err();
    assert!(
        missing
            .message
            .contains("it is for linux/arm64, linux/amd64, not for linux/riscv64"),
        "{missing:?}"
    );
    // Read back from the file, to the letter.
    let pins = nubrik_pins::Pins {
        shelves: [(IMAGES, settled.clone())].into(),
    };
    assert_eq!(nubrik_pins::Pins::read(&pins.write()).unwrap(), pins);
}

#[test]
fn a_tag_that_moved_is_taken_only_when_that_is_asked_for() {
    let shop = Shop::new();
    let first = image(&shop, "amd64", b"first");
    tagged(&shop, "1.2", &first);
    let system = &BOTH[1..];
    let pinned = shop
        .settle(IMAGES, &asked("1.2", system), &Free::Nothing)
        .unwrap();
    let second = image(&shop, "amd64", b"second");
    tagged(&shop, "1.2", &second);
    let versions = |free: &Free| {
        let settled = shop.settle(IMAGES, &pinned, free);
        let settled = settled.unwrap();
        settled
            .pins
            .values()
            .map(|pin| pin.version.clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(versions(&Free::Nothing), [version(&first)]);
    assert_eq!(versions(&Free::Everything), [version(&second)]);
    // By its digest it never moves.
    let exact = sha256(first.as_bytes());
    let settled = shop
        .settle(IMAGES, &asked(&exact, system), &Free::Everything)
        .unwrap();
    assert_eq!(settled.pins.values().next().unwrap().facts["digest"], exact);
}

#[test]
fn what_a_registry_gives_is_compared_with_its_digest() {
    let shop = Shop::new();
    let manifest = image(&shop, "amd64", b"layer");
    tagged(&shop, "1.2", &manifest);
    let refused = |requirement: &str| {
        shop.settle(IMAGES, &asked(requirement, &BOTH[1..]), &Free::Nothing)
            .unwrap_err()
    };
    shop.put(
        &format!("images/v2/{NAME}/tags/list"),
        b"{\"name\": \"tide/base\", \"tags\": [\"1.1\", \"1.2\"]}",
    );
    let none = refused("");
    assert!(none.message.contains("is pinned by a tag"), "{none:?}");
    assert_eq!(none.notes, ["its tags: 1.2, 1.1"]);
    assert_eq!(none.mends, ["nubrik pins add images tide/base 1.2"]);
    assert!(refused("9").message.contains("no image tide/base 9"));
    assert!(refused("a:b").message.contains("is no tag"));
    let digest = sha256(manifest.as_bytes());
    tagged(&shop, &digest, &manifest.replace("layers", "layerz"));
    assert!(
        refused(&digest).message.contains("is something else"),
        "{:?}",
        refused(&digest)
    );
    tagged(&shop, "1.2", "{\"name\": \"nothing\"}");
    assert!(
        refused("1.2").message.contains("is no image"),
        "{:?}",
        refused("1.2")
    );
    // A configuration that is not the one that the manifest names.
    let other = image(&shop, "s390x", b"layer");
    tagged(&shop, "1.2", &other);
    assert!(
        refused("1.2").message.contains("it is for linux/s390x"),
        "{:?}",
        refused("1.2")
    );
}
