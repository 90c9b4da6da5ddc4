// Written by `make generate` from api/state.go.
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
