// What belongs to the service itself.
import { Heading } from '../components/basics'
import { Deliveries } from './settings/Deliveries'
import { Lists } from './settings/Lists'
import { People } from './settings/People'
import { ServiceParts } from './settings/ServiceParts'
import { Tokens } from './settings/Tokens'

export default function SettingsPage() {
  return (
    <>
      <Heading title="Settings" />
      <div className="grid items-start gap-5 xl:grid-cols-2 [&>*]:min-w-0">
        <div className="xl:col-span-2">
          <Tokens />
        </div>
        <People />
        <Deliveries />
        <Lists />
        <ServiceParts />
      </div>
    </>
  )
}
