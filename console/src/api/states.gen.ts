// Written by `make generate` from the tables of states, rights and events in api.
export const stateNotes = [
  { state: 'bare', tone: 'bad', means: 'no filter is in force at all' },
  { state: 'paused', tone: 'bad', means: 'its filter admits everything for a while, and logs what it would refuse' },
  { state: 'failed', tone: 'bad', means: 'the rules that it was asked to put in force could not be put in force' },
  { state: 'went back', tone: 'bad', means: 'the new rules were not kept, and are not in force' },
  { state: 'drifted', tone: 'bad', means: 'the rules in force differ from the published ones' },
  { state: 'unread', tone: 'care', means: 'what it reported was not understood where it matters' },
  { state: 'silent', tone: 'care', means: 'it has not reported for three intervals' },
  { state: 'waiting', tone: 'care', means: 'it was asked to settle, and has not settled yet, or not kept the change yet' },
  { state: 'behind', tone: 'care', means: 'an earlier revision or fleet is in force; the published one is not settled there' },
  { state: 'new', tone: 'plain', means: 'it has never reported' },
  { state: 'others', tone: 'plain', means: 'a machine of others: nothing of ours filters for it' },
  { state: 'in step', tone: 'good', means: 'it does with every packet what the policy says' },
] as const

/** What a person may be allowed to do. */
export const rights = ['read', 'propose', 'approve', 'publish', 'settle', 'pause', 'tokens'] as const

/** The types of events that the stream carries. */
export const eventTypes = [
  'revision.published',
  'fleet.imported',
  'proposal.made',
  'proposal.changed',
  'proposal.approved',
  'proposal.declined',
  'proposal.withdrawn',
  'wave.began',
  'wave.went-on',
  'wave.stopped',
  'wave.ended',
  'host.asked',
  'host.enrolled',
  'host.given-rules',
  'token.made',
  'token.revoked',
  'key.changed',
  'session.changed',
  'cloud.state',
  'record.checkpoint',
  'host.way-in',
  'host.state',
] as const

/** What is said of somebody who did a deed of the record. */
export const deeds: Readonly<Record<string, string>> = {
  'publish': 'published',
  'import-fleet': 'imported',
  'make-token': 'made',
  'revoke-token': 'revoked',
  'sign-in': 'signed in with',
  'sign-out': 'signed out of',
  'end-sessions': 'ended the sessions of',
  'make-enrolment': 'made a one-time token for',
  'enrol': 'enrolled',
  'ask-host': 'asked',
  'give-rules': 'gave rules to',
  'begin-wave': 'began',
  'go-on-wave': 'let go on',
  'stop-wave': 'stopped',
  'end-wave': 'ended',
  'make-key': 'made',
  'retire-key': 'retired',
  'propose': 'made',
  'change-proposal': 'changed',
  'approve': 'approved',
  'decline': 'declined',
  'withdraw': 'withdrew',
}
