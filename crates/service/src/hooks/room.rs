//! Bounded memory for the bodies of calls under way. What counts is what was received, not what was announced. When it is full,
//! the body that has been arriving longest is dropped: an honest sender sends a body at once.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tokio::sync::Notify;

/// Bytes of bodies at a time.
#[derive(Debug, Clone)]
pub struct Room(Arc<Mutex<Used>>, u64);

#[derive(Debug, Default)]
struct Used {
    bytes: u64,
    next: u64,
    /// Bodies still arriving, oldest first: their bytes, and how to stop each.
    coming: BTreeMap<u64, (u64, Arc<Notify>)>,
}

/// The room of one body, until it is dropped.
#[derive(Debug)]
pub struct Share {
    room: Room,
    id: u64,
    bytes: u64,
    whole: bool,
    stop: Arc<Notify>,
}

/// There is no memory for more of a body.
#[derive(Debug, PartialEq, Eq)]
pub struct NoRoom;

impl Room {
    /// Creates a pool of `bytes` bytes.
    #[must_use]
    pub fn new(most: u64) -> Self {
        Self(Arc::default(), most)
    }

    /// A share without bytes, of a body that begins to come.
    #[must_use]
    pub fn share(&self) -> Share {
        let mut used = self.0.lock().expect("no holder panics");
        let (id, stop) = (used.next, Arc::<Notify>::default());
        used.next += 1;
        used.coming.insert(id, (0, stop.clone()));
        Share { room: self.clone(), id, bytes: 0, whole: false, stop }
    }
}

impl Share {
    /// Reserves memory for more of the body, if necessary that of older ones that are still arriving.
    ///
    /// # Errors
    /// [`NoRoom`] when this body itself was dropped, or all memory is used by complete bodies.
    pub fn grow(&mut self, bytes: u64) -> Result<(), NoRoom> {
        let mut used = self.room.0.lock().expect("no holder panics");
        if !used.coming.contains_key(&self.id) {
            return Err(NoRoom);
        }
        while used.bytes + bytes > self.room.1 {
            let oldest = used.coming.iter().find(|(id, (bytes, _))| **id != self.id && *bytes > 0).map(|(id, _)| *id);
            let Some((freed, stop)) = oldest.and_then(|id| used.coming.remove(&id)) else { return Err(NoRoom) };
            used.bytes -= freed;
            stop.notify_one();
        }
        used.bytes += bytes;
        self.bytes += bytes;
        used.coming.entry(self.id).and_modify(|(coming, _)| *coming += bytes);
        Ok(())
    }

    /// The whole body is here: it makes room for nobody any more.
    ///
    /// # Errors
    /// [`NoRoom`] when it had to make room just before.
    pub fn whole(&mut self) -> Result<(), NoRoom> {
        let mut used = self.room.0.lock().expect("no holder panics");
        used.coming.remove(&self.id).ok_or(NoRoom)?;
        self.whole = true;
        Ok(())
    }

    /// Is notified when the body has to make room.
    #[must_use]
    pub fn stop(&self) -> Arc<Notify> {
        self.stop.clone()
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut used = self.room.0.lock().expect("no holder panics");
        // A dropped body has released its bytes already.
        if used.coming.remove(&self.id).is_some() || self.whole {
            used.bytes -= self.bytes;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::FutureExt;

    #[test]
    fn the_body_that_takes_longest_makes_room_for_one_that_comes_at_once() {
        let room = Room::new(100);
        let mut dripping: Vec<Share> = (0..10).map(|_| room.share()).collect();
        dripping.iter_mut().for_each(|share| share.grow(10).unwrap());
        let mut call = room.share();
        call.grow(15).unwrap();
        let stopped = |share: &Share| share.stop().notified().now_or_never().is_some();
        assert_eq!(dripping.iter().filter(|share| stopped(share)).count(), 2, "the two oldest");
        assert_eq!((dripping[0].grow(1), dripping[1].whole()), (Err(NoRoom), Err(NoRoom)));
        call.whole().unwrap();
        drop(dripping);
        let mut large = room.share();
        assert_eq!(large.grow(86), Err(NoRoom), "what has come whole is not given up");
        large.grow(85).unwrap();
        drop(call);
        large.grow(15).unwrap();
        drop(large);
        assert_eq!(room.0.lock().unwrap().bytes, 0);
        assert!(room.0.lock().unwrap().coming.is_empty());
    }

    #[test]
    fn one_body_never_makes_room_for_itself() {
        let room = Room::new(10);
        let mut share = room.share();
        share.grow(8).unwrap();
        assert_eq!(share.grow(8), Err(NoRoom));
        share.grow(2).unwrap();
        share.whole().unwrap();
    }
}
