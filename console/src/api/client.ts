import createClient from 'openapi-fetch';
import type { components, operations, paths } from './schema';

type Schemas = components['schemas'];
export type Severity = Schemas['Severity'];
export type Verdict = Schemas['Verdict'];
export type Today = Schemas['Today'];
export type Concern = Schemas['Concern'];
export type Lookahead = Schemas['Lookahead'];
export type LookaheadItem = Schemas['LookaheadItem'];
export type CertificateInfo = Schemas['CertificateInfo'];
export type CertificateDetail = Schemas['CertificateDetail'];
export type CertificateText = Schemas['CertificateText'];
export type HostInfo = Schemas['HostInfo'];
export type HostDetail = Schemas['HostDetail'];
export type ServiceInfo = Schemas['ServiceInfo'];
export type LookInfo = Schemas['LookInfo'];
export type NewRequest = Schemas['NewRequest'];
export type RequestPreview = Schemas['RequestPreview'];
export type ComposedNames = Schemas['ComposedNames'];
export type RequestInfo = Schemas['RequestInfo'];
export type NameVerdict = Schemas['NameVerdictInfo'];
export type OrderInfo = Schemas['OrderInfo'];
export type ProfileInfo = Schemas['ProfileInfo'];
export type JournalEntry = Schemas['JournalEntryInfo'];
export type Session = Schemas['Session'];
export type HealthReport = Schemas['HealthReport'];
export type HealthGeneration = Schemas['HealthGeneration'];
export type HealthPoint = Schemas['HealthPoint'];
export type HealthFinding = Schemas['HealthFinding'];
export type AuthorityInfo = Schemas['AuthorityInfo'];
export type ProfileDetail = Schemas['ProfileDetail'];
export type PersonInfo = Schemas['PersonInfo'];
export type ConsentInfo = Schemas['ConsentInfo'];
export type Denied = Schemas['Denied'];
export type ExportForm = Schemas['ExportForm'];
export type StoredEntry = Schemas['StoredEntryInfo'];
export type AnchorInfo = Schemas['AnchorInfo'];
export type TrustStoreInfo = Schemas['TrustStoreInfo'];
export type TrustAct = Schemas['TrustAct'];
export type WhyAnswer = Schemas['WhyAnswer'];
export type RolloverInfo = Schemas['RolloverInfo'];
export type MailUse = Schemas['MailUse'];
export type ProviderInfo = Schemas['ProviderInfo'];
export type PartnerInfo = Schemas['PartnerInfo'];
export type FederationStep = ProviderInfo['step'];
export type ServiceRecords = Schemas['ServiceRecords'];
export type SweepInfo = Schemas['SweepInfo'];
export type SweepFinding = Schemas['SweepFindingInfo'];
export type OutsideInfo = Schemas['OutsideInfo'];
export type Operation = keyof operations;

/** An RFC 9457 answer of ours: what is wrong, and what mends it. */
interface Problem {
  detail?: string | null;
  title?: string | null;
  code?: string | null;
  cure?: string | null;
}

export class ProblemError extends Error {
  readonly code: string;
  readonly cure: string;
  constructor(problem: Problem | undefined, status: number) {
    super(problem?.detail ?? problem?.title ?? `The service answered ${status}.`);
    this.name = 'ProblemError';
    this.code = problem?.code ?? 'internal';
    this.cure = problem?.cure ?? 'Try again.';
  }
}

/** Asks for the password again; true when it was given. */
type Ask = () => Promise<boolean>;
let ask: Ask | null = null;

export function onSignInAgain(how: Ask | null): void {
  ask = how;
}

/** A call that wants a fresh proof of who makes it is made again once that was given. */
async function fetchProved(request: Request): Promise<Response> {
  const again = request.clone();
  const answer = await fetch(request);
  if (answer.status !== 403 || !ask) return answer;
  const problem = (await answer
    .clone()
    .json()
    .catch(() => null)) as Problem | null;
  return problem?.code === 'sign-in-again' && (await ask()) ? fetch(again) : answer;
}

export const api = createClient<paths>({ baseUrl: '/', fetch: fetchProved });

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of an answer, or its problem thrown. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) throw new ProblemError(error as Problem | undefined, response.status);
  return data as T;
}
