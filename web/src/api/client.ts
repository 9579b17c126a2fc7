import createClient from 'openapi-fetch'
import type { components, paths } from './contract.gen'

export type Board = components['schemas']['Board']
export type Row = components['schemas']['Row']
export type Column = components['schemas']['Column']
export type Crossing = components['schemas']['Crossing']
export type Probe = components['schemas']['Probe']
export type Exchange = components['schemas']['Exchange']
export type Sent = components['schemas']['Sent']
export type Rung = components['schemas']['Rung']
export type Sequence = components['schemas']['Sequence']
export type Finding = components['schemas']['Finding']
export type FindingLine = components['schemas']['FindingLine']
export type FindingDetail = components['schemas']['FindingDetail']
export type CrossingSeen = components['schemas']['CrossingSeen']
export type FindingChange = components['schemas']['FindingChange']
export type ComparedFinding = components['schemas']['ComparedFinding']
export type SweepComparison = components['schemas']['SweepComparison']
export type ChangedCrossing = components['schemas']['ChangedCrossing']
export type ReportForm = components['schemas']['ReportForm']
export type Share = components['schemas']['Share']
export type Coverage = components['schemas']['Coverage']
export type Point = components['schemas']['Point']
export type State = components['schemas']['State']
export type Declaration = components['schemas']['Declaration']
export type Effect = components['schemas']['Effect']
export type Message = components['schemas']['Message']
export type Target = components['schemas']['Target']
export type Plan = components['schemas']['Plan']
export type Sweep = components['schemas']['Sweep']
export type SweepResult = components['schemas']['SweepResult']
export type Tick = components['schemas']['Tick']
export type Unfair = components['schemas']['Unfair']
export type Unseen = components['schemas']['Unseen']
export type Revision = components['schemas']['Revision']
export type Connection = components['schemas']['Connection']
export type Sheet = components['schemas']['Sheet']
export type Change = components['schemas']['Change']
export type Comparison = components['schemas']['Comparison']
export type Heading = components['schemas']['Heading']
export type ImportPreview = components['schemas']['ImportPreview']
export type ImportRequest = components['schemas']['ImportRequest']
export type Minted = components['schemas']['Minted']
export type TokenView = components['schemas']['TokenView']
export type MembersEdit = components['schemas']['MembersEdit']
export type PagesLook = components['schemas']['PagesLook']
export type PageEntry = components['schemas']['PageEntry']
export type Edited = components['schemas']['Edited']
export type PolicyPlan = components['schemas']['PolicyPlan']
export type Life = components['schemas']['Life']
export type Session = components['schemas']['Session']
export type Audited = components['schemas']['Audited']
export type PageQuestion = components['schemas']['PageQuestion']
export type PageJudged = components['schemas']['PageJudged']
export type PagesJudged = components['schemas']['PagesJudged']
export type Quotas = components['schemas']['Quotas']
export type Quota = components['schemas']['Quota']
export type QuotaFor = components['schemas']['QuotaFor']
export type Simulated = components['schemas']['Simulated']
export type SimulationRequest = components['schemas']['Simulation']
export type Restarted = components['schemas']['Restarted']
export type QuotaView = components['schemas']['QuotaView']
export type Cell = components['schemas']['Cell']
export type Expect = components['schemas']['Expect']
export type Kind = components['schemas']['Kind']
export type Severity = components['schemas']['Severity']
export type QuotaSeen = components['schemas']['QuotaSeen']
export type SweepState = components['schemas']['SweepState']
export type RouteEffect = components['schemas']['RouteEffect']
export type Sensitivity = components['schemas']['Sensitivity']
export type Observation = components['schemas']['Observation']
export type ObservedGroup = components['schemas']['ObservedGroup']
export type ObservedMark = components['schemas']['ObservedMark']
export type ObservedRead = components['schemas']['ObservedRead']
export type Callers = components['schemas']['Callers']
export type CallerRole = components['schemas']['CallerRole']
export type CallerIdentity = components['schemas']['CallerIdentity']
export type CallerCredential = components['schemas']['CallerCredential']
export type CallerScheme = components['schemas']['CallerScheme']
export type CallerEdit = components['schemas']['CallerEdit']
export type Account = components['schemas']['Account']
export type Steps = components['schemas']['Steps']
export type ExampleRead = components['schemas']['ExampleRead']
export type CallerTried = components['schemas']['CallerTried']
export type Event = components['schemas']['Event']

const client = createClient<paths>({ baseUrl: '' })

/** An answer that is an error, in the words of the server. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message)
  }
}

type Outcome<T> = { data?: T; error?: unknown; response: Response }

/** Takes the data out of an answer, or throws a Problem that can be shown. */
export async function ask<T>(call: Promise<Outcome<T>>): Promise<T> {
  let r: Outcome<T>
  try {
    r = await call
  } catch {
    throw new Problem(
      0,
      'Mill Gate does not answer. Is it still running? Nothing that was kept is lost; try again when it is back.',
    )
  }
  if (!r.response.ok) {
    const detail = (r.error as { detail?: string } | undefined)?.detail
    throw new Problem(r.response.status, detail || `The server answered ${r.response.status}.`)
  }
  return r.data as T
}

export function message(e: unknown): string {
  return e instanceof Error ? e.message : String(e)
}

export const api = client
