/** The counts of one process of a fleet since it began. */
export interface FleetFigures {
  /** Answered out of this process' own memory. */
  memoryHits: number;
  /** Answered out of the store, fresh. */
  storeHits: number;
  /** Answered out of the store at once, and revalidated in the background. */
  staleHits: number;
  /** Answered by a request of this process that another caller had begun. */
  joined: number;
  /** How often a request of another process was waited for. */
  waited: number;
  /** Leases that this process was given, to ask for all. */
  leases: number;
  /** How often the source was asked. */
  requests: number;
  /** Answers that were not for sharing. */
  notShared: number;
  /** Answers that the store did not take: something newer was there, or they had been invalidated meanwhile. */
  refused: number;
  /** Failed requests in whose place a stored value was given. */
  coveredFailures: number;
  /** Invalidations that were made here, and that were heard from others. */
  invalidations: number;
  heard: number;
  /** How often something may have been missed, so that nothing that was remembered was believed. */
  gaps: number;
  /** Records of another form than this version's. */
  unreadable: number;
  /** Calls that the store did not answer. */
  storeFailures: number;
  /** Entries that are remembered now. */
  remembered: number;
}

export function noFigures(): FleetFigures {
  return {
    memoryHits: 0,
    storeHits: 0,
    staleHits: 0,
    joined: 0,
    waited: 0,
    leases: 0,
    requests: 0,
    notShared: 0,
    refused: 0,
    coveredFailures: 0,
    invalidations: 0,
    heard: 0,
    gaps: 0,
    unreadable: 0,
    storeFailures: 0,
    remembered: 0,
  };
}
